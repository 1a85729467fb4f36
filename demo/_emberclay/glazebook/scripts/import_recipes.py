#!/usr/bin/env python3
"""Reads recipes from a table."""
import csv
import sys

for row in csv.DictReader(sys.stdin):
    print(row["glaze"], row["parts"])
