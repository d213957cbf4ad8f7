"""Keel records vehicle and device buses and pinpoints which field carries a value or a fault."""

__version__ = "0.1.0"
