"""Files and scenes by the hash of their content."""
