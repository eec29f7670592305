package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/control/finder"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/snapshot"
)

// decisions measures, in this process, what deciding costs among many rules and tools, and
// what a narrowing adds.
func decisions() error {
	const many = 10_000
	now := time.Now()
	list := make([]rules.Rule, 0, many)
	for i := range many {
		list = append(list, rules.Rule{
			ID: fmt.Sprint(i), Name: fmt.Sprintf("r%d", i), Effect: rules.Admit, Agent: "*", Server: "*", Tool: fmt.Sprintf("tool-%d", i),
		})
	}
	who := rules.Subject{ID: "a", Name: "bench", Confirmed: true, Labels: []string{"laptop"}}
	started := time.Now()
	local := rules.Compile(list, now, nil).For(who).On(rules.Host{Name: "echo"})
	compiling := time.Since(started)
	objects := make([]rules.Object, many)
	for i := range objects {
		objects[i] = rules.Object{Name: fmt.Sprintf("tool-%d", i), Tool: true}
	}
	n := 0
	deciding := per(func() {
		local.Decide(&objects[n%many])
		n++
	})
	narrow := append(list, rules.Rule{
		ID: "n", Name: "n", Effect: rules.Admit, Agent: "*", Server: "*", Tool: "order",
		Terms: rules.Terms{Narrow: json.RawMessage(`{"properties":{"litres":{"maximum":5000},"port":{"enum":["Skerrow","Holm Voe"]}}}`)},
	})
	order := &rules.Object{Name: "order", Tool: true, Schema: json.RawMessage(`{"type":"object","required":["litres","port"],
		"properties":{"litres":{"type":"integer"},"port":{"type":"string"},"vessel":{"type":"string"}}}`)}
	shape, err := rules.Compile(narrow, now, nil).For(who).On(rules.Host{Name: "echo"}).Shape(order, nil)
	if err != nil {
		return err
	}
	args := []byte(`{"litres":200,"port":"Skerrow","vessel":"MV Petrel"}`)
	if v := shape.Judge(args); v.Effect != rules.Admit {
		return errors.New("the narrowing refuses what fits it: " + v.Why)
	}
	judging := per(func() { shape.Judge(args) })
	fmt.Printf("\ndeciding among %d rules and %d tools: %v without arguments, %v more with a narrowing; compiling the rules %v\n",
		many, many, deciding.Round(10*time.Nanosecond), judging.Round(100*time.Nanosecond), compiling.Round(time.Millisecond))
	return searches(many)
}

// searches measures, in this process, what finding a tool in words costs among many.
func searches(many int) error {
	index, err := finder.New(slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer index.Close()
	verbs := []string{"list", "get", "create", "update", "archive", "export", "count", "share", "approve", "comment on"}
	things := []string{
		"invoice",
		"ticket",
		"engine log",
		"spare part",
		"cabin",
		"lifeboat",
		"permit",
		"weather report",
		"booking",
		"refund",
	}
	server := &snapshot.Server{Name: "office"}
	server.Offer.Lists = map[tools.Kind][]tools.Tool{}
	for i := range many {
		verb, thing := verbs[i%len(verbs)], things[i/len(verbs)%len(things)]
		raw := fmt.Sprintf(`{"name":"%s_%s_%d","description":"%s the %s of berth %d.","inputSchema":{"type":"object","properties":{
			"berth":{"type":"string","description":"where the %s is"},"day":{"type":"string"}}}}`,
			strings.ReplaceAll(verb, " ", "_"), strings.ReplaceAll(thing, " ", "_"), i, verb, thing, i, thing)
		list, _, _, err := tools.ReadPage(tools.Tools, []byte(`{"tools":[`+raw+`]}`))
		if err != nil {
			return err
		}
		server.Offer.Lists[tools.Tools] = append(server.Offer.Lists[tools.Tools], list...)
	}
	now := snapshot.New()
	now.Servers[server.Name] = server
	began := time.Now()
	if err := index.Take(context.Background(), now); err != nil {
		return err
	}
	indexing := time.Since(began)
	var failed error
	n := 0
	ask := func(words string, within bool) time.Duration {
		return per(func() {
			n++ // another berth each time, so that nothing is remembered of it
			err := index.Find(context.Background(), fmt.Sprintf(words, n%many), 5, func(string, string) bool { return within })
			failed = errors.Join(failed, err)
		}).Round(10 * time.Microsecond)
	}
	fmt.Printf(
		"finding a tool in words among %d: %v; of words that many have %v; where none is within reach %v; reading all of them in %v\n",
		many,
		ask("please archive the weather report of berth %d", true),
		ask("create a permit %d for a day at a berth", true),
		ask("berth day %d", false),
		indexing.Round(time.Millisecond),
	)
	return failed
}

// revocation measures how long it takes, with so many sessions open, until a new refusal
// and the end of an agent hold: the next call is tried each time.
func revocation(ctx context.Context, base string, session http.Header, streams []*http.Response) error {
	var login struct{ Token string }
	api := func(method, path string, in, out any) error {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		h := http.Header{"Content-Type": {"application/json"}, "Authorization": {"Bearer " + login.Token}}
		req, err := http.NewRequestWithContext(ctx, method, base+path, bytes.NewReader(raw))
		if err != nil {
			return err
		}
		req.Header = h
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if res.StatusCode >= 400 {
			return fmt.Errorf("%s %s: %s", method, path, res.Status)
		}
		if out == nil {
			return nil
		}
		return json.NewDecoder(res.Body).Decode(out)
	}
	if err := api("POST", "/api/tokens", map[string]string{"name": "admin", "password": "long-enough-for-this"}, &login); err != nil {
		return err
	}
	const call = `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"x"}}}`
	worst := time.Duration(0)
	for range 5 {
		began := time.Now()
		rule := map[string]any{"name": "stop", "effect": "refuse", "agent": "bench", "server": "echo", "tool": "*"}
		if err := api("POST", "/api/rules", rule, nil); err != nil {
			return err
		}
		body, err := post(ctx, base+"/mcp", session, call)
		if err != nil || !strings.Contains(string(body), "rule-refuses") {
			return fmt.Errorf("the call after a refusal was answered: %s %w", body, err)
		}
		worst = max(worst, time.Since(began))
		if err := api("DELETE", "/api/rules/stop", nil, nil); err != nil {
			return err
		}
	}
	began := time.Now()
	if err := api("DELETE", "/api/agents/bench", nil, nil); err != nil {
		return err
	}
	gone := time.Since(began)
	for _, s := range streams {
		var sink [512]byte
		for {
			if _, err := s.Body.Read(sink[:]); err != nil {
				break
			}
		}
	}
	fmt.Printf("with %d open sessions: a new refusal holds after %v (the worst of 5, the call that tries it included), "+
		"the end of an agent after %v, and its last stream has ended after %v\n",
		len(streams), worst.Round(100*time.Microsecond), gone.Round(100*time.Microsecond), time.Since(began).Round(time.Millisecond))
	return nil
}
