"""Parse, format and convert angles, bearings, lengths and coordinates; the only core place that knows other
units than SI."""
