"""One file for each group of checks; each lists its own, and the registry lists the files."""
