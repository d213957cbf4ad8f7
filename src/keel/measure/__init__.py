"""Measures over frames: who talks and how steadily, how full the bus is, what went wrong and when."""
