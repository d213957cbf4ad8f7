"""Values: what do the devices say?"""
