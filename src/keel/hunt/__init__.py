"""Pinpointing: which field of which message carries it, and how sure that is."""
