package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// seedLabels gives the labels, groups and tags that the team's rules go by.
func (s *service) seedLabels(ctx context.Context) error {
	for _, in := range []object{
		{"kind": "agent", "name": "marit-quill", "add": []string{"laptop"}},
		{"kind": "agent", "name": "joss-quill", "add": []string{"laptop"}},
		{"kind": "agent", "name": "night-watch", "add": []string{"unattended"}},
		{"kind": "agent", "name": "quay-voice", "add": []string{"voice"}},
		{"kind": "server", "name": "sailings", "add": []string{"quayside"}},
		{"kind": "server", "name": "berths", "add": []string{"quayside"}},
		{"kind": "server", "name": "tannoy", "add": []string{"quayside"}},
		{"kind": "server", "name": "fuel", "add": []string{"money"}},
		{"kind": "person", "name": "joss", "add": []string{"dispatch"}},
		{"kind": "person", "name": "wren", "add": []string{"safety"}},
		{"kind": "tool", "name": "berths", "tool": "assign_berth", "add": []string{"not-destructive"}},
		{"kind": "tool", "name": "tannoy", "tool": "announce", "add": []string{"not-destructive", "loud"}},
	} {
		if err := s.call(ctx, http.MethodPatch, "/api/labels", in, nil); err != nil {
			return err
		}
	}
	return nil
}

// seedWindows says how much the models behind the agents take; a voice line takes little, so
// that it searches its tools.
func (s *service) seedWindows(ctx context.Context) error {
	for agent, in := range map[string]object{
		"marit-quill": {"contextTokens": 32_000},
		"joss-quill":  {"contextTokens": 32_000},
		"quay-voice":  {"contextTokens": 4_000, "finder": true},
	} {
		if err := s.call(ctx, http.MethodPatch, "/api/agents/"+agent, in, nil); err != nil {
			return err
		}
	}
	return nil
}

// rulesOfTheTeam are the rules of the scenario. Some end by themselves, at the end of the
// week that now is in.
func rulesOfTheTeam(now time.Time) []step {
	sunday := time.Date(now.Year(), now.Month(), now.Day()+(7-int(now.Weekday()))%7, 23, 59, 0, 0, now.Location())
	rules := []object{
		{"name": "tides", "agent": "*", "server": "tides", "tool": "*", "note": "everybody may know the tides"},
		{"name": "watch-list", "agent": "*", "server": "crew", "tool": "*", "note": "everybody sees the watch with their own rights"},
		{
			"name": "own-shift", "agent": "*", "server": "crew", "tool": "swap_shift", "pins": object{"whose": "${person}"},
			"note": "swapping a shift swaps one's own",
		},
		{
			"name": "laptops", "label": "laptop", "agent": "*", "server": "*", "tool": "*", "hint": "not-destructive",
			"note": "the desk's own assistants work with everything that destroys nothing",
		},
		{
			"name": "no-cancelling", "effect": "refuse", "label": "laptop", "agent": "*", "server": "*", "tool": "cancel_*",
			"note": "sailings are cancelled by the night watch, not from a laptop",
		},
		{
			"name": "joss-orders", "agent": "joss-quill", "server": "fuel", "tool": "order_fuel",
			"narrow": object{
				"properties": object{"litres": object{"maximum": 5000}, "port": object{"enum": []string{"Skerrow", "Holm Voe"}}},
			},
			"note": "up to 5,000 litres, at Skerrow and Holm Voe only",
		},
		{"name": "night-looks", "agent": "night-watch", "server": "sailings", "tool": "*", "hint": "read-only"},
		{
			"name": "night-cancels", "effect": "hold", "agent": "night-watch", "server": "sailings", "tool": "cancel_sailing",
			"deciders": []string{"group:dispatch"}, "holdSeconds": 600, "note": "somebody of dispatch looks at it first",
		},
		{"name": "night-announces", "agent": "night-watch", "server": "tannoy", "tool": "announce"},
		{"name": "passengers-ask", "label": "voice", "agent": "*", "server": "sailings", "tool": "*", "hint": "read-only", "resultKiB": 8},
		{"name": "parlour-lists", "agent": "ottilie-parlour", "server": "*", "tool": "list_*"},
		{
			"name": "parlour-lost", "agent": "ottilie-parlour", "server": "lost-property", "tool": "search_items",
			"hide": []string{"items.*.finder.address"}, "note": "where a finder lives is nobody's business",
		},
		{
			"name": "teo-at-night", "person": "teo", "agent": "*", "server": "tannoy", "tool": "announce",
			"window": "22:00-06:00 Europe/Oslo",
		},
		{
			"name": "safety-reads-fuel", "group": "safety", "agent": "*", "server": "fuel", "tool": "*", "hint": "read-only",
			"ends": sunday.UTC().Format(time.RFC3339), "note": "for this week's audit",
		},
	}
	steps := []step{
		{"/api/budgets", object{
			"name": "voice", "label": "voice", "agent": "*", "server": "*", "tool": "*", "per": "agent", "window": "minute", "calls": 30,
			"atOnce": 2, "note": "a voice line asks little, and quickly",
		}},
		{"/api/budgets", object{
			"name": "announcements", "agent": "*", "server": "tannoy", "tool": "*", "per": "all", "window": "hour", "calls": 40, "atOnce": 1,
			"waits": true, "note": "one voice at a time on the quay",
		}},
	}
	for _, r := range rules {
		if r["effect"] == nil {
			r["effect"] = "admit"
		}
		r["anyway"] = true // some are about agents that are to come
		steps = append(steps, step{"/api/rules", r})
	}
	return steps
}

// watchkeeper is the night watch, which now and then wants to cancel a sailing, and waits
// until somebody of dispatch has looked at it.
func (s *service) watchkeeper(ctx context.Context) error {
	var pass struct{ Token string }
	in := object{"days": 30, "label": "the demo's night watch"}
	if err := s.call(ctx, http.MethodPost, "/api/agents/night-watch/passes", in, &pass); err != nil {
		return fmt.Errorf("make a pass for the night watch: %w", err)
	}
	go func() {
		pause := time.NewTimer(0)
		defer pause.Stop()
		for n := 0; ; n++ {
			select {
			case <-pause.C:
			case <-ctx.Done():
				return
			}
			// However it is decided is in the journal, which is the point of it.
			_ = s.askToCancel(ctx, pass.Token, []string{"SF205", "SF207", "SF209"}[n%3])
			pause.Reset(2 * time.Minute)
		}
	}()
	return nil
}

func (s *service) askToCancel(ctx context.Context, pass, sailing string) error {
	body := `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"sailings__cancel_sailing","arguments":{"sailing":"` + sailing +
		`","reason":"gusts of 55 knots forecast"},"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28",` +
		`"io.modelcontextprotocol/clientInfo":{"name":"night-watch","version":"0.9"},"io.modelcontextprotocol/clientCapabilities":{}}}}`
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.base+"/mcp", strings.NewReader(body))
	if err != nil {
		return err
	}
	for k, v := range map[string]string{
		"Content-Type": "application/json", "Accept": "application/json, text/event-stream", "Authorization": "Bearer " + pass,
		"MCP-Protocol-Version": "2026-07-28", "Mcp-Method": "tools/call", "Mcp-Name": "sailings__cancel_sailing",
	} {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(io.Discard, res.Body)
	return err
}
