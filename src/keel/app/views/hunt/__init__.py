"""Hunt: which field carries it?"""
