"""Mic Lane: mixing vocals in the browser."""
