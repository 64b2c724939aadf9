"""Checks that recompute what they judge, from the files alone."""
