package ferries

import (
	"context"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"bouncer/standin/toolserver"
)

// Tokens of the servers, known to the demo only.
const (
	TannoyToken = "skf-tannoy-2Wd7nRb5Yq9xCv3Lk8m"
	LostKey     = "skf-lost-6Jp1sHt4Zu8eFg0Ow2a"
)

// Tannoy is the loudspeakers on the quay: announce. It is to be served with
// Legacy.
func Tannoy(token string) *toolserver.Server {
	var mu sync.Mutex
	said := []string{}
	return toolserver.New("skerrow-tannoy", "0.9.1", token,
		toolserver.Tool{
			Name: "announce", Title: "Announce on the quay",
			Description: "Says a text over the loudspeakers. Everybody on the quay hears it.",
			Schema:      `{"type":"object","properties":{"text":{"type":"string"},"quay":{"type":"string"}},"required":["text"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				mu.Lock()
				defer mu.Unlock()
				if c.Text("text") == "" {
					return nil, fmt.Errorf("there is nothing to say")
				}
				said = append(said, c.Text("text"))
				return fmt.Sprintf("said: %s (announcement %d today)", c.Text("text"), len(said)), nil
			},
		})
}

// Tides is the tide tables: tide_table, chart notes as resources, a passage plan
// as a prompt. It is to be served with Stateless.
func Tides() *toolserver.Server {
	s := toolserver.New("skerrow-tides", "4.0.2", "",
		toolserver.Tool{
			Name: "tide_table", Title: "Tide table", ReadOnly: true,
			Description: "Gives high and low water of a harbour for a day.",
			Schema:      `{"type":"object","properties":{"harbour":{"type":"string"},"day":{"type":"string","description":"like 2026-11-23"}},"required":["harbour"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				if c.Text("harbour") == "" {
					return nil, fmt.Errorf("name a harbour: Skerrow, Brannasay, Holm Voe or Tarn Head")
				}
				return map[string]any{"harbour": c.Text("harbour"), "tides": tides(c.Text("harbour"), c.Text("day"))}, nil
			},
		})
	s.Resources = []toolserver.Resource{
		{URI: "chart://skerrow/approach", Name: "Approach to Skerrow", Description: "Chart note", Read: func(string) string {
			return "Keep the leading lights in line until the second beacon. Least depth 4.2 m."
		}},
		{URI: "chart://notes/{harbour}", Name: "Notes of a harbour", Description: "Chart notes by harbour", Read: func(uri string) string {
			return "No dangers are noted for " + strings.TrimPrefix(uri, "chart://notes/") + "."
		}},
	}
	s.Prompts = []toolserver.Prompt{
		{
			Name:        "passage_plan",
			Title:       "Passage plan",
			Description: "Plans a passage to a harbour by the tide.",
			Argument:    "harbour",
			Text: func(h string) string {
				return "Plan the passage from Skerrow to " + h + ". Look at the tide table and the chart notes first."
			},
		},
	}
	return s
}

// tides are invented, but they follow the moon's beat.
func tides(harbour, day string) []map[string]any {
	at, err := time.Parse("2006-01-02", day)
	if err != nil {
		at = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	}
	first := time.Duration(float64(at.YearDay())*50.47+float64(len(harbour))*17) * time.Minute % (745 * time.Minute)
	out := []map[string]any{}
	for i := range 4 {
		t := at.Add(first + time.Duration(i)*372*time.Minute)
		kind, metres := "high", 4.1+math.Sin(float64(at.YearDay())/4.7)/2
		if i%2 == 1 {
			kind, metres = "low", 0.9-math.Sin(float64(at.YearDay())/4.7)/2
		}
		out = append(out, map[string]any{"time": t.Format("15:04"), "water": kind, "metres": math.Round(metres*10) / 10})
	}
	return out
}
