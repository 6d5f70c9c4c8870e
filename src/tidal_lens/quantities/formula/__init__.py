"""The formula language: from a text to a checked tree, and from the tree to values."""
