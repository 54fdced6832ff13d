package uncertainty

import "math"

// coverageTable gives k for 95 % of a rectangle plus a normal rest, over ρ = u of the rectangle / u of the rest.
var coverageTable = []struct{ rho, k float64 }{
	{0, 1.960}, {0.5, 1.955}, {1, 1.917}, {2, 1.810}, {3, 1.744}, {5, 1.685}, {10, 1.651},
}

const (
	normalFactor      = 1.960
	rectangularFactor = 1.645
)

// CoverageFactor is k for 95 % of the sum of rectangles (half-widths) and normal parts (standard
// uncertainties). A single rectangle with a normal rest is exact to the table's digits; two rectangles alone
// have a closed form; further rectangles count with the rest, to which they tend by the central limit theorem.
func CoverageFactor(rectangles, normal []float64) float64 {
	var largest, second, rest float64
	for _, a := range rectangles {
		switch {
		case a > largest:
			rest += second * second / 3
			largest, second = a, largest
		case a > second:
			rest += second * second / 3
			second = a
		default:
			rest += a * a / 3
		}
	}
	for _, s := range normal {
		rest += s * s
	}
	switch {
	case largest == 0:
		return normalFactor
	case second > 0 && math.Sqrt(rest) < 0.05*second/math.Sqrt(3):
		return trapezoidFactor(largest, second)
	}
	rho := largest / math.Sqrt(3) / math.Sqrt(rest+second*second/3)
	return tableFactor(rho)
}

func tableFactor(rho float64) float64 {
	for i := 1; i < len(coverageTable); i++ {
		a, b := coverageTable[i-1], coverageTable[i]
		if rho <= b.rho {
			return a.k + (b.k-a.k)*(rho-a.rho)/(b.rho-a.rho)
		}
	}
	last := coverageTable[len(coverageTable)-1]
	// Beyond the table k tends to that of a rectangle alone as 1/ρ.
	return rectangularFactor + (last.k-rectangularFactor)*last.rho/rho
}

// trapezoidFactor is k for the sum of two rectangles of half-widths a1 ≥ a2, a trapezoid.
func trapezoidFactor(a1, a2 float64) float64 {
	const p = 0.95
	beta := (a1 - a2) / (a1 + a2)
	half := 1 - math.Sqrt((1-p)*(1-beta*beta))
	if p/(2-p) < beta {
		half = p * (1 + beta) / 2
	}
	return math.Sqrt(6) / math.Sqrt(1+beta*beta) * half
}
