"""Dictionaries: payload bytes to physical values, and the names of things."""
