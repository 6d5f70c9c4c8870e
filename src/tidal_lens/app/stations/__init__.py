"""The pages of the bench, one a station."""
