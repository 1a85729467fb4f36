import os, sys
def f( a,b ):
    x=1
    return a


class c:
    def Method(self): pass
