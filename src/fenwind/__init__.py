"""Fenwind: control surveys with honest statistics and a trail behind every coordinate."""
