import nosuchmodule
def test_i(): pass
