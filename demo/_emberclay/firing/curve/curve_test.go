package curve

import "testing"

var bisque = Curve{20, []Leg{{100, 620, 0}, {150, 980, 0.25}}}

func TestHours(t *testing.T) {
	if got := bisque.Hours(); got != 8.65 {
		t.Errorf("Hours() = %v, want 8.65", got)
	}
}

func TestAt(t *testing.T) {
	for _, c := range []struct {
		name string
		hour float64
		want float64
	}{
		{"start", 0, 20},
		{"first leg", 3, 320},
		{"cooling", 9, 940},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := bisque.At(c.hour); got != c.want {
				t.Errorf("At(%v) = %v, want %v", c.hour, got, c.want)
			}
		})
	}
}
