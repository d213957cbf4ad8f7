"""Measured speed. ``python -m benchmarks`` prints a table with the limit measured beside each figure."""
