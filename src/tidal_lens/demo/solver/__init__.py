"""A small solver of the compressible Navier–Stokes equations round one body, which made the demo case."""
