"""Recipes of glazes, by weight."""


def percent(parts):
    """The parts of a recipe as percentages."""
    whole = sum(parts.values())
    return {name: 100 * part / whole for name, part in parts.items()}


def main():
    for name, share in percent({"feldspar": 40, "silica": 30, "whiting": 20, "kaolin": 10}).items():
        print(f"{name:10} {share:5.1f} %")
