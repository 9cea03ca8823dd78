"""What lies around parts: which sides can be seen, what lies on what, what nearly meets. Survey and steps stand on it."""
