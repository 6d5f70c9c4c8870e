"""What a flow result is: grids, blocks, boundaries, fields, roles and the reference state."""
