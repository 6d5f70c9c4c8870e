"""Open formats: one module a family behind one registry."""
