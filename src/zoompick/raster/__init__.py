"""Rasters by windows: grids, GeoTIFF in and out, resampling, block engine. Opens no sockets."""
