"""The made-up demo case, written into the user's cache on first use."""
