"""Kinds of products, a file each: its step, and which of them a study's brief asks for."""
