// Package ferries holds the tool servers of Skerrow Ferries, the invented
// company in which every demo and test is set. Nothing they do leaves the
// process.
package ferries

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"bouncer/standin/toolserver"
)

// Tokens of the servers, known to the demo only.
const (
	SailingsToken = "skf-sailings-7Qm2vX9tLr4bNw8kZy3d"
	BerthsToken   = "skf-berths-4Hc6pTz1sUe9fGj5oKa2m"
)

type sailing struct {
	ID      string `json:"sailing"`
	From    string `json:"from"`
	To      string `json:"to"`
	Departs string `json:"departs"`
	Vessel  string `json:"vessel"`
	Status  string `json:"status"`
	Cars    int    `json:"carSpaces"`
}

type board struct {
	mu   sync.Mutex
	list []sailing
}

func newBoard() *board {
	b := &board{}
	routes := [][3]string{
		{"Skerrow", "Brannasay", "MV Petrel"},
		{"Skerrow", "Holm Voe", "MV Fulmar"},
		{"Brannasay", "Skerrow", "MV Petrel"},
		{"Holm Voe", "Skerrow", "MV Fulmar"},
		{"Skerrow", "Tarn Head", "MV Dunlin"},
	}
	times := []string{"06:40", "09:15", "12:30", "15:45", "19:10"}
	for i, r := range routes {
		for j, at := range times {
			b.list = append(
				b.list,
				sailing{
					ID:      fmt.Sprintf("SF%d%02d", i+1, j+1),
					From:    r[0],
					To:      r[1],
					Departs: at,
					Vessel:  r[2],
					Status:  "on time",
					Cars:    12 + (i*7+j*5)%31,
				},
			)
		}
	}
	b.list[7].Status = "delayed 25 min, fog at Holm Voe"
	return b
}

// Sailings is the timetable: find_sailings, sailing_status, cancel_sailing.
func Sailings(token string) *toolserver.Server {
	b := newBoard()
	return toolserver.New("skerrow-sailings", "3.2.0", token,
		toolserver.Tool{
			Name: "find_sailings", Title: "Find sailings", ReadOnly: true,
			Description: "Lists today's sailings between two harbours, with departure, vessel, free car spaces and status.",
			Schema:      `{"type":"object","properties":{"from":{"type":"string","description":"harbour of departure"},"to":{"type":"string","description":"harbour of arrival"}},"required":["from","to"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				return map[string]any{"sailings": b.find(c.Text("from"), c.Text("to"))}, nil
			},
		},
		toolserver.Tool{
			Name: "sailing_status", Title: "Status of a sailing", ReadOnly: true,
			Description: "Tells whether one sailing is on time, delayed or cancelled.",
			Schema:      `{"type":"object","properties":{"sailing":{"type":"string","description":"number of the sailing, like SF203"}},"required":["sailing"]}`,
			Run: func(ctx context.Context, c *toolserver.Call) (any, error) {
				for i := range 3 {
					c.Progress(float64(i+1), 3, []string{"asking the bridge", "asking the harbour", "comparing"}[i])
					select {
					case <-time.After(5 * time.Millisecond):
					case <-ctx.Done():
						return nil, ctx.Err()
					}
				}
				return b.status(c.Text("sailing"))
			},
		},
		toolserver.Tool{
			Name: "cancel_sailing", Title: "Cancel a sailing", Destructive: true,
			Description: "Cancels a sailing and tells every booked passenger. This cannot be undone.",
			Schema:      `{"type":"object","properties":{"sailing":{"type":"string"},"reason":{"type":"string"}},"required":["sailing","reason"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				return b.cancel(c.Text("sailing"), c.Text("reason"))
			},
		})
}

func (b *board) find(from, to string) []sailing {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := []sailing{}
	for _, s := range b.list {
		if strings.EqualFold(s.From, from) && strings.EqualFold(s.To, to) {
			out = append(out, s)
		}
	}
	return out
}

func (b *board) status(id string) (any, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.list {
		if strings.EqualFold(s.ID, id) {
			return s, nil
		}
	}
	return nil, fmt.Errorf("there is no sailing %q today; sailings are numbered like SF203", id)
}

func (b *board) cancel(id, reason string) (any, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.list {
		if strings.EqualFold(b.list[i].ID, id) {
			b.list[i].Status = "cancelled: " + reason
			return b.list[i], nil
		}
	}
	return nil, fmt.Errorf("there is no sailing %q today", id)
}

// Berths is the harbour: list_berths, assign_berth.
func Berths(token string) *toolserver.Server {
	var mu sync.Mutex
	berths := map[string]string{
		"Skerrow 1":   "MV Petrel",
		"Skerrow 2":   "",
		"Skerrow 3":   "MV Dunlin",
		"Brannasay 1": "",
		"Holm Voe 1":  "MV Fulmar",
		"Tarn Head 1": "",
	}
	return toolserver.New("skerrow-berths", "1.8.4", token,
		toolserver.Tool{
			Name: "list_berths", Title: "List berths", ReadOnly: true,
			Description: "Lists the berths of a harbour and which vessel lies at each.",
			Schema:      `{"type":"object","properties":{"harbour":{"type":"string"}},"required":["harbour"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				mu.Lock()
				defer mu.Unlock()
				type berth struct {
					Berth  string `json:"berth"`
					Vessel string `json:"vessel"`
				}
				out := []berth{}
				for name, v := range berths {
					if strings.HasPrefix(strings.ToLower(name), strings.ToLower(c.Text("harbour"))) {
						out = append(out, berth{name, v})
					}
				}
				sort.Slice(out, func(i, j int) bool { return out[i].Berth < out[j].Berth })
				return map[string]any{"berths": out}, nil
			},
		},
		toolserver.Tool{
			Name: "assign_berth", Title: "Assign a berth",
			Description: "Assigns a free berth to a vessel.",
			Schema:      `{"type":"object","properties":{"berth":{"type":"string"},"vessel":{"type":"string"}},"required":["berth","vessel"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				mu.Lock()
				defer mu.Unlock()
				at, ok := berths[c.Text("berth")]
				if !ok {
					return nil, fmt.Errorf("there is no berth %q", c.Text("berth"))
				}
				if at != "" && at != c.Text("vessel") {
					return nil, fmt.Errorf("%s lies at %s", at, c.Text("berth"))
				}
				berths[c.Text("berth")] = c.Text("vessel")
				return fmt.Sprintf("%s is assigned to %s", c.Text("berth"), c.Text("vessel")), nil
			},
		})
}
