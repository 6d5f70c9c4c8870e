"""Pictures, animations, reports and runs of a study, made without a window."""
