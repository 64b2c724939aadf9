"""Study areas: what they are and how they are read."""
