"""Numbers read off a flow."""
