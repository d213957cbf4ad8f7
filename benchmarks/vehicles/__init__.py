"""Random vehicles: made-up traffic of which everything is known, to measure how well the hunt does."""
