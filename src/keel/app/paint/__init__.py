"""Drawings in cells: the canvas and all that is drawn on it, without anything that answers keys."""
