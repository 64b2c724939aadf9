"""Values that several rooms need: scenes and what their items tell, sources, deliveries, records of files."""
