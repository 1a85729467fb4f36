import pytest, unittest
from kiln import heat, Kiln
def test_a():
    assert heat(2) == 1
def test_b():
    x = {"a": 1, "b": [1, 2, 3]}
    assert x == {"a": 2, "b": [1, 2]}, "glaze differs"
@pytest.mark.parametrize("n", [1, 5])
def test_c(n):
    heat(5)
@pytest.fixture
def broken():
    raise RuntimeError("fixture")
def test_d(broken): pass
def test_e(missing_fixture): pass
class TestK:
    def test_f(self):
        with pytest.raises(KeyError):
            heat(9)
    def test_g(self):
        pytest.fail("explicit\nmulti")
class U(unittest.TestCase):
    def test_u(self):
        self.assertEqual(Kiln().temp(), 3, "msg")
    def test_s(self):
        with self.subTest(i=1):
            self.assertTrue(False)
