// Package curve computes firing curves: the temperature of a kiln over time.
package curve

// Leg is one part of a firing.
type Leg struct {
	Rate   float64 // degrees Celsius an hour
	Target float64 // degrees Celsius
	Hold   float64 // hours at the target
}

// Curve is a whole firing from a starting temperature.
type Curve struct {
	Start float64
	Legs  []Leg
}

// Hours is how long the firing takes.
func (c Curve) Hours() float64 {
	at, hours := c.Start, 0.0
	for _, l := range c.Legs {
		hours += (l.Target-at)/l.Rate + l.Hold
		at = l.Target
	}
	return hours
}

// At gives the temperature after some hours.
func (c Curve) At(hour float64) float64 {
	at := c.Start
	for _, l := range c.Legs {
		up := (l.Target - at) / l.Rate
		if hour <= up {
			return at + l.Rate*hour
		}
		hour -= up
		if hour <= l.Hold {
			return l.Target
		}
		at = l.Target
	}
	return at
}

// Slower makes every leg take its time: rates are scaled by a factor below 1.
func (c Curve) Slower(factor float64) Curve {
	legs := make([]Leg, len(c.Legs))
	for i, l := range c.Legs {
		l.Rate *= factor
		l.Hold = l.Hold
		legs[i] = l
	}
	return Curve{c.Start, legs}
}
