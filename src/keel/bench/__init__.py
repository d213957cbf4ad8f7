"""The bench: the electric harbour ferry *Tern*, simulated, for trying things out and for tests. All made up."""

from keel.bench.ferry import Ferry

__all__ = ["Ferry"]
