"""What scripts use."""
