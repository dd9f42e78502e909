"""What can be done with sessions, without HTTP: the command line and the pages both stand on it."""
