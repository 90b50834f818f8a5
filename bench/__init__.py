"""Speed and memory, as ratios within one run: `make bench` prints a table and writes
bench/results.json.
"""
