"""What lasts: sessions with every edit, sound files by content, prints."""
