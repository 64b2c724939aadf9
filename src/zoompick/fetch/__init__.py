"""Getting files: whole, in windows, out of archives; what is there under which names."""
