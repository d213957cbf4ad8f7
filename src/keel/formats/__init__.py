"""Foreign files in and out. Each format is one file that declares itself; `registry` lists them."""
