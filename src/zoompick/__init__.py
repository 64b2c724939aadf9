"""Zoom Pick."""
