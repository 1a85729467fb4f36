open List

type glaze = Celadon | Tenmoku of int

let cool g = match g with
  | Celadon -> 1

let fire n =
  let y = 2 in
  n + 1

let load ~label x = x
let h () = load 3; 4

let () = print_endline (fire 3)
