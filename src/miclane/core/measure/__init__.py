"""What can be said of a sound in numbers."""
