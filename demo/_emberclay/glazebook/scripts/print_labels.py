#!/usr/bin/env python3
"""Prints a label for each jar."""
for jar in ("Ash shino", "Copper rain", "Slate matt"):
    print(f"| {jar:<16} |")
