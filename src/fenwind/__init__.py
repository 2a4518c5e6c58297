"""Fenwind: control surveys with honest statistics and a trail behind every coordinate."""

__version__ = "0.1.0"
