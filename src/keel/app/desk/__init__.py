"""The desk: reads, asks and measures on its own thread, and hands finished pictures over."""
