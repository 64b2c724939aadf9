"""What sources prepare on request or sell: quotas, jobs, a queue that survives restarts."""
