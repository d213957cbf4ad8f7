"""Bench: make it happen."""
