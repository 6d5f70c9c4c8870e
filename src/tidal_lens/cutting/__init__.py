"""Slices, isosurfaces and wall surfaces: geometry whose vertices know how to interpolate any quantity."""
