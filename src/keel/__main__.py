"""``python -m keel`` is ``keel``."""

from keel.cli import main

main()
