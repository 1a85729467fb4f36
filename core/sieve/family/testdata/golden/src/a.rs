use std::collections::HashMap;

struct Kiln {
    temp: i32,
}

fn heat(k: Kiln) -> i32 {
    let mut extra = 1;
    k.temp + "hot"
}

fn main() {
    let k = Kiln { temp: 20 };
    heat(k);
    println!("{}", k.temp);
    let s: String = 5;
    missing(s);
}
