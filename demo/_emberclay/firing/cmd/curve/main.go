// Command curve prints a bisque firing hour by hour.
package main

import (
	"fmt"

	"emberclay.example/firing/curve"
)

func main() {
	c := curve.Curve{Start: 20, Legs: []curve.Leg{{Rate: 100, Target: 620}, {Rate: 150, Target: 980, Hold: 0.25}}}
	for h := 0.0; h <= c.Hours(); h++ {
		fmt.Printf("%4.0f h  %4.0f °C\n", h, c.At(h))
	}
}
