"""What light through the whole flow shows, and other sums along the line of sight."""
