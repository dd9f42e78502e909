"""The one name pyworld wants of a module that setuptools no longer brings."""

from importlib.metadata import distribution as get_distribution

__all__ = ["get_distribution"]
