"""The window. No numerics in here."""
