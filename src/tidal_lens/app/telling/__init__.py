"""Parts of the Tell station's page: what is chosen for plates, pictures, animations, reports and runs."""
