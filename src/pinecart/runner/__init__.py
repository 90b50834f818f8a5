"""Acts on what core decides: feeds it listings, carries its decisions out many at once, and records
what was done.
"""
