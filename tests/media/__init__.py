"""Tests of what each kind of line says of itself."""
