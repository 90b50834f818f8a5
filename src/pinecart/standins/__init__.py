"""Small simulated outside systems, for the demo, tests and benchmarks.

They share no code with the drivers.
"""
