import strutils, tables

type Glaze = enum celadon, tenmoku

proc fire(n: int): string =
  n + 1

proc cool(g: Glaze): int =
  case g
  of celadon: 1

proc unusedVar() =
  let x = 3
  echo undefinedName

template twice(body: untyped) =
  body
  body
proc gen[T](x: T): T =
  x + "a"
twice:
  let q = gen(3)
