"""Frames: what happened, in order?"""
