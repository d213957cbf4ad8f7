"""Live input and output: where frames come from while a recording grows."""
