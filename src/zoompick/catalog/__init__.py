"""Finding scenes: sources, criteria, STAC search, coverage, choice."""
