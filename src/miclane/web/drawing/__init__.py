"""Numbers turned into what templates draw as SVG."""
