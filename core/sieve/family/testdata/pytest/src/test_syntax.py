def test_x(:
    pass
