import json


def load(text):
    return json.loads(text)


def outer():
    try:
        load("{bad")
    except ValueError as e:
        raise RuntimeError("no recipe\nin the book") from e


outer()
