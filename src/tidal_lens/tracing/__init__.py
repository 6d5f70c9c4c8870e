"""Seeds and the lines traced from them."""
