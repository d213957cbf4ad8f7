"""Drawings as SVG and PDF, for reports and for printing: on white, in the house's colours darkened for paper."""
