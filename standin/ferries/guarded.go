package ferries

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"bouncer/standin/pilothouse"
	"bouncer/standin/toolserver"
)

// CustomsToken is a token that ended at the last midnight: a JSON Web Token that
// nobody verifies, so that its end can be read.
func CustomsToken(now time.Time) string {
	end := now.UTC().Truncate(24 * time.Hour).Unix()
	claims := fmt.Sprintf(
		`{"iss":"https://customs.skerrow.example","sub":"skerrow-desk","aud":"customs","scope":"manifests","exp":%d}`,
		end,
	)
	enc := base64.RawURLEncoding
	return enc.EncodeToString(
		[]byte(`{"alg":"none","typ":"JWT"}`),
	) + "." + enc.EncodeToString(
		[]byte(claims),
	) + "." + enc.EncodeToString(
		[]byte("skf-customs"),
	)
}

// FuelClient and FuelSecret are Bouncer's own access to the fuel supplier.
const (
	FuelClient = "skerrow-desk"
	FuelSecret = "skf-fuel-9Rb2mXc7Vt5kQw3Zp8sD4nLh"
)

// Crew is the watch list, to be put behind an authority: each person sees it as
// somebody of their own station may.
func Crew() *toolserver.Server {
	var mu sync.Mutex
	watch := map[string][]string{
		"bridge": {
			"Sunniva Rae (master)",
			"Ebbe Lindqvist (mate)",
		}, "engine": {"Corin Vance (second engineer)"}, "quay": {"Teo Castellane (night watch)", "Isla Faro (ropes)"},
	}
	stations := map[string][]string{
		"marit":   {"bridge", "engine", "quay"},
		"joss":    {"bridge", "engine"},
		"ottilie": {"quay"},
		"teo":     {"quay"},
		"wren":    {"bridge", "engine", "quay"},
	}
	return toolserver.New("skerrow-crew", "2.1.0", "",
		toolserver.Tool{
			Name:        "who_is_on_watch",
			Title:       "Who is on watch",
			ReadOnly:    true,
			Description: "Lists who is on watch now, at the stations that you may see.",
			Schema:      `{"type":"object","properties":{}}`,
			Run: func(ctx context.Context, _ *toolserver.Call) (any, error) {
				mu.Lock()
				defer mu.Unlock()
				who := pilothouse.From(ctx).Person
				out := map[string]any{}
				for _, s := range stations[who] {
					out[s] = watch[s]
				}
				return map[string]any{"askedBy": who, "onWatch": out}, nil
			},
		},
		toolserver.Tool{
			Name: "swap_shift", Title: "Swap two shifts", Description: "Swaps your next shift with somebody else's. Needs the scope crew:write.",
			Schema: `{"type":"object","properties":{"with":{"type":"string","description":"name of the other person"},"whose":{"type":"string","description":"whose shift; your own if left out"}},"required":["with"]}`,
			Run: func(ctx context.Context, c *toolserver.Call) (any, error) {
				if whose := c.Text("whose"); whose != "" && whose != pilothouse.From(ctx).Person {
					return nil, fmt.Errorf("%s's shift is not yours to swap", whose)
				}
				return fmt.Sprintf("%s's next shift is swapped with %s's", pilothouse.From(ctx).Person, c.Text("with")), nil
			},
		})
}

// CrewScope is what a request to the watch list needs: swapping shifts takes
// more than reading.
func CrewScope(r *http.Request) string {
	raw, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	r.Body = io.NopCloser(bytes.NewReader(raw))
	if err == nil && bytes.Contains(raw, []byte(`"tools/call"`)) && bytes.Contains(raw, []byte("swap_shift")) {
		return "crew:read crew:write"
	}
	return "crew:read"
}

// Fuel is the fuel supplier: bunker_levels, order_fuel.
func Fuel() *toolserver.Server {
	var mu sync.Mutex
	litres := map[string]float64{"MV Petrel": 18400, "MV Fulmar": 9100, "MV Dunlin": 12750}
	return toolserver.New("voe-bunkering", "5.3.1", "",
		toolserver.Tool{
			Name: "bunker_levels", Title: "Bunker levels", ReadOnly: true, Description: "Gives the fuel on board of each vessel, in litres.",
			Schema: `{"type":"object","properties":{}}`,
			Run: func(context.Context, *toolserver.Call) (any, error) {
				mu.Lock()
				defer mu.Unlock()
				out := map[string]any{}
				for k, v := range litres {
					out[k] = v
				}
				return map[string]any{"litres": out}, nil
			},
		},
		toolserver.Tool{
			Name: "order_fuel", Title: "Order fuel", Destructive: true, Description: "Orders fuel for a vessel. This spends money at once.",
			Schema: `{"type":"object","properties":{"vessel":{"type":"string"},"litres":{"type":"number","minimum":100,"maximum":20000},"port":{"type":"string","enum":["Skerrow","Holm Voe","Kirkvoe"],"description":"where it is delivered"}},"required":["vessel","litres"]}`,
			Run: func(_ context.Context, c *toolserver.Call) (any, error) {
				mu.Lock()
				defer mu.Unlock()
				n, _ := c.Arguments["litres"].(float64)
				if _, ok := litres[c.Text("vessel")]; !ok {
					return nil, fmt.Errorf("there is no vessel %q", c.Text("vessel"))
				}
				litres[c.Text("vessel")] += n
				return fmt.Sprintf("ordered %.0f litres for %s", n, c.Text("vessel")), nil
			},
		})
}

// Customs is the customs office, whose token for the desk ended last night.
func Customs() *toolserver.Server {
	s := toolserver.New("customs-gateway", "1.0.7", "", toolserver.Tool{
		Name: "file_manifest", Title: "File a manifest", Description: "Files the manifest of a sailing with the customs office.",
		Schema: `{"type":"object","properties":{"sailing":{"type":"string"}},"required":["sailing"]}`,
		Run:    func(_ context.Context, c *toolserver.Call) (any, error) { return "filed for " + c.Text("sailing"), nil },
	})
	s.Fail(toolserver.Unauthorised)
	return s
}

// Stores is the stock of spare parts. It is careless about its standard output.
func Stores() *toolserver.Server {
	s := toolserver.New("skerrow-stores", "0.9.2", "", toolserver.Tool{
		Name: "find_part", Title: "Find a part", ReadOnly: true, Description: "Finds a spare part by its name and tells the shelf.",
		Schema: `{"type":"object","properties":{"part":{"type":"string"}},"required":["part"]}`,
		Run:    func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("part") + ": shelf 12", nil },
	})
	s.Fail(toolserver.Noisy)
	return s
}

// Radio is the harbour radio, which answers below /api only.
func Radio() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("/api/mcp", toolserver.New("harbour-radio", "3.0.1", "", toolserver.Tool{
		Name: "last_bulletin", Title: "Last bulletin", ReadOnly: true, Description: "Tells the last bulletin that was read out.",
		Schema: `{"type":"object","properties":{}}`,
		Run:    func(context.Context, *toolserver.Call) (any, error) { return "gale warning for Tarn Head", nil },
	}))
	return mux
}
