"""What stands around the views: head, tape, names, ask line, key line, command palette."""
