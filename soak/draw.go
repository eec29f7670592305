package main

import (
	"fmt"
	"os"
	"slices"
	"strings"
)

// curve is something that is followed. leeway is by how much it may differ without growing.
type curve struct {
	name, unit, color string
	leeway            float64
	of                func(sample) float64
}

var curves = []curve{
	{"memory", "MiB", "#29697a", 8, func(s sample) float64 { return s.memory }},
	{"goroutines", "", "#a8650f", 40, func(s sample) float64 { return s.goroutines }},
	{"open files", "", "#6a4c93", 20, func(s sample) float64 { return s.files }},
}

func median(samples []sample, of func(sample) float64) float64 {
	values := make([]float64, len(samples))
	for i, s := range samples {
		values[i] = of(s)
	}
	slices.Sort(values)
	return values[len(values)/2]
}

// draw writes the curves, and the calls in a second, one below the other.
func draw(path string, samples []sample) error {
	const width, height, left = 860, 130, 80
	var b strings.Builder
	all := append(slices.Clone(curves), curve{"calls", "in a second", "#2e7d4f", 0, func(s sample) float64 { return s.calls }})
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" font-family="sans-serif" font-size="12">`+"\n",
		width+left+20, len(all)*(height+40)+30)
	b.WriteString(`<rect width="100%" height="100%" fill="#fff"/>` + "\n")
	for i, c := range all {
		top := 1.0
		for _, s := range samples {
			top = max(top, c.of(s))
		}
		y := float64(i*(height+40) + 30)
		fmt.Fprintf(&b, `<text x="%d" y="%.0f" font-weight="bold">%s %s</text><text x="%d" y="%.0f" text-anchor="end">%.0f</text>`+
			`<text x="%d" y="%.0f" text-anchor="end">0</text>`+"\n", left, y-8, c.name, c.unit, left-8, y+10, top, left-8, y+height)
		fmt.Fprintf(&b, `<path d="M%d %.0f V%.0f H%d" fill="none" stroke="#999"/><polyline fill="none" stroke="%s" stroke-width="1.5" points="`,
			left, y, y+height, left+width, c.color)
		for j, s := range samples {
			fmt.Fprintf(&b, "%.1f,%.1f ", left+float64(j)*width/float64(max(1, len(samples)-1)), y+height-c.of(s)/top*height)
		}
		b.WriteString(`"/>` + "\n")
	}
	b.WriteString("</svg>\n")
	if err := os.WriteFile(path, []byte(b.String()), 0o600); err != nil {
		return fmt.Errorf("draw the graphs: %w", err)
	}
	return nil
}
