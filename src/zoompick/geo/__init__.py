"""Coordinates and shapes: CRS door, bounds, geodesy, polygons."""
