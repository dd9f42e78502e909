"""The job itself: sound, settings, measures. No web, no database; usable from a notebook."""
