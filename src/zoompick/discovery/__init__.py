"""Finding scenes: criteria, catalogues, coverage, choice, and a look before anything is loaded."""
