import re, warnings
def test_w():
    warnings.warn("old glaze", DeprecationWarning)
    assert re.match("\d", "3")

