"""The bench: the electric harbour ferry *Tern*, simulated, for trying things out and for tests. All made up."""
