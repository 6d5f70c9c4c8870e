"""Where is a point, and what is the value there."""
