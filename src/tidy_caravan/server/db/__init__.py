"""Tables, sessions and migrations."""
