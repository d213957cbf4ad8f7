"""The views, a folder each."""
