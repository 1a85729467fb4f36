def heat(x):
    if x > 3:
        raise ValueError("too hot: %d" % x)
    return x / 0
class Kiln:
    """
    >>> Kiln().temp()
    3
    >>> 1 + 1
    3
    """
    def temp(self):
        return 2
