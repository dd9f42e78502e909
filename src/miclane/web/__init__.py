"""The pages: one module a screen, its templates, its drawings."""
