"""The records of a study on disk: folder, brief, shortlist, journal."""
