"""All that is made: rasters of rasters, and the steps that make files of them."""
