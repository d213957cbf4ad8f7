"""Tests of recordings of probes."""
