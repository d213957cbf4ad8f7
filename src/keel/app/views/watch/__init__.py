"""Watch: who talks, and what just moved?"""
