"""Compare: what is different?"""
