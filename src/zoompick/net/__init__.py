"""HTTP: one session, one decision on retries."""
