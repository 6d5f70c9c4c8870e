"""Derived quantities: their catalogue, gradient operators, vortex criteria and gas dynamics."""
