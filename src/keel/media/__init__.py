"""The kinds of line there are: what each says of its identifiers, its flags, its header. Plain data, quick to load."""
