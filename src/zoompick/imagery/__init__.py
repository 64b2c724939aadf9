"""Products as Rasters made of Rasters: stack, clip, composite, index; and their sidecars."""
