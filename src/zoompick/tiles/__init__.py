"""Picture tiles: fetched into a store, joined into one file."""
