"""Health: what is wrong on the line?"""
