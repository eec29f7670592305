package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"bouncer/standin/bell"
	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
)

// service is the bouncer process with a client of its API.
type service struct {
	dir, bin, base string
	cmd            *exec.Cmd
	ended          chan error
	firstPassword  string
	token          string
}

var oneTime = regexp.MustCompile(`one-time password (\S+)`)

// command is a service with the settings of the scenario and further ones, of which later ones
// take the place of earlier ones. The first of a cluster does for all what is done once.
func (s *service) command(data string, first bool, further ...string) *exec.Cmd {
	settings := []string{
		"serve", "--data", data, "--listen", address, "--first-admin", "marit", "--private-ranges", "127.0.0.0/8",
		"--oidc-issuer", "http://127.0.0.1:4710", "--oidc-client-id", providerClient, "--oidc-secret", "env PILOTHOUSE_SECRET",
		"--oidc-name", "Pilothouse", "--oidc-groups", "desk=admin,dispatch=maintainer,crew=member,safety=auditor",
		"--held-notices", bellAddress, "--held-notices-key", "env BELL_KEY",
		"--mail-server", mailServer, "--mail-from", "bouncer@skerrow.example",
		// The stand-ins lie in this checkout, which nobody else may be able to reach.
		"--process-user", strconv.Itoa(os.Getuid()),
	}
	if first {
		settings = append(settings, "--backup-dir", filepath.Join(s.dir, "copies"), "--metrics-listen", metricsAddress)
	}
	cmd := exec.Command(s.bin, append(settings, further...)...)
	// The stand-in for berths is a command beside this one.
	cmd.Env = append(
		os.Environ(),
		"PILOTHOUSE_SECRET="+providerSecret,
		"BELL_KEY="+bell.Key,
		"PATH="+filepath.Dir(s.bin)+string(os.PathListSeparator)+os.Getenv("PATH"),
	)
	return cmd
}

// startService starts the service as its users do, and signs in to it. Its steps are
// one sequence, each with what people read when it fails.
func startService(ctx context.Context, dir string, further ...string) (*service, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	s := &service{dir: dir, bin: filepath.Join(filepath.Dir(self), "bouncer"), base: "http://" + address, ended: make(chan error, 1)}
	log, err := os.Create(filepath.Join(dir, "service.log"))
	if err != nil {
		return nil, err
	}
	s.cmd = s.command(filepath.Join(dir, "data"), true, further...)
	s.cmd.Stderr = log
	// Its own group, so that an interrupt at the terminal reaches it through us
	// only, and it can end in order.
	setGroup(s.cmd)
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("%s cannot be started (make build makes it): %w", s.bin, err)
	}
	lines := make(chan string, 16)
	go func() {
		defer close(lines)
		for scan := bufio.NewScanner(out); scan.Scan(); {
			lines <- scan.Text()
		}
	}()
	go func() { s.ended <- errors.Join(s.cmd.Wait(), log.Close()) }()
	listening := false
	for deadline := time.After(time.Minute); ; {
		select {
		case line, ok := <-lines:
			if !ok {
				raw, _ := os.ReadFile(log.Name())
				return nil, fmt.Errorf("the service did not start:\n%s", raw)
			}
			if m := oneTime.FindStringSubmatch(line); m != nil {
				s.firstPassword = m[1]
			}
			listening = listening || strings.Contains(line, "listening")
		case <-time.After(200 * time.Millisecond):
			if listening {
				return s, nil
			}
		case <-deadline:
			s.stop()
			return nil, errors.New("the service did not start in time")
		case <-ctx.Done():
			s.stop()
			return nil, ctx.Err()
		}
	}
}

func (s *service) stop() {
	if err := s.cmd.Process.Signal(os.Interrupt); err != nil {
		return
	}
	select {
	case <-s.ended:
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
	}
}

// refusal is an error that the service told.
type refusal struct {
	status int
	title  string
}

func (r *refusal) Error() string { return r.title }

func (s *service) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, s.base+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+s.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		var p struct{ Title string }
		_ = json.NewDecoder(res.Body).Decode(&p)
		return &refusal{res.StatusCode, fmt.Sprintf("%s %s: %s", method, path, p.Title)}
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(res.Body).Decode(out)
}

// add creates something; that it is there already is fine.
func (s *service) add(ctx context.Context, path string, in, out any) (fresh bool, err error) {
	err = s.call(ctx, http.MethodPost, path, in, out)
	var r *refusal
	if errors.As(err, &r) && r.status == http.StatusConflict {
		return false, nil
	}
	return err == nil, err
}

func (s *service) signIn(ctx context.Context, name, pass string) error {
	var out struct{ Token string }
	s.token = ""
	err := s.call(ctx, http.MethodPost, "/api/tokens", map[string]string{"name": name, "password": pass, "label": "demo"}, &out)
	s.token = out.Token
	return err
}

type object = map[string]any

// step is one thing of the scenario, and where it is added.
type step struct {
	path string
	in   object
}

// seed brings the team's register to the state of the scenario. Doing it again
// changes nothing.
func (s *service) seed(ctx context.Context) error {
	if s.firstPassword != "" {
		if err := s.choosePassword(ctx, "marit", s.firstPassword); err != nil {
			return err
		}
	} else if err := s.signIn(ctx, "marit", password); err != nil {
		return fmt.Errorf("%w (delete %s to begin anew)", err, s.dir)
	}
	marit := s.token
	if err := s.call(ctx, http.MethodPatch, "/api/people/marit", object{"fullName": "Marit Aune"}, nil); err != nil {
		return err
	}
	if err := s.seedPeople(ctx, marit); err != nil {
		return err
	}
	if err := s.addAll(ctx, agentsAndServers()); err != nil {
		return err
	}
	if err := s.call(ctx, http.MethodPut, "/api/servers/pilotage/review", object{"mode": "changes"}, nil); err != nil {
		return err
	}
	if err := s.seedLabels(ctx); err != nil {
		return err
	}
	if err := s.seedWindows(ctx); err != nil {
		return err
	}
	if err := s.addAll(ctx, rulesOfTheTeam(time.Now())); err != nil {
		return err
	}
	if err := s.signIn(ctx, "joss", password); err != nil {
		return err
	}
	wish := object{
		"mail": "joss@skerrow.example", "topics": []string{"held", "incidents", "secrets", "budgets"}, "every": "once",
		"quietFrom": "22:00", "quietTo": "06:00", "zone": "Europe/Oslo",
	}
	if err := s.call(ctx, http.MethodPut, "/api/session/mail", wish, nil); err != nil {
		return err
	}
	for _, name := range []string{"joss", "ottilie"} {
		if err := s.signInAtCrew(ctx, name); err != nil {
			return err
		}
	}
	s.token = marit
	return s.enrol(ctx)
}

func (s *service) addAll(ctx context.Context, steps []step) error {
	for _, st := range steps {
		if _, err := s.add(ctx, st.path, st.in, nil); err != nil {
			return err
		}
	}
	return nil
}

// seedPeople adds everybody, with their passwords, and ties them to who they are at
// Pilothouse, where the subject is the name.
func (s *service) seedPeople(ctx context.Context, marit string) error {
	for _, p := range []object{
		{"name": "joss", "fullName": "Joss Penhale", "role": "maintainer"}, {"name": "ottilie", "fullName": "Ottilie Brandt", "role": "member"},
		{"name": "teo", "fullName": "Teo Castellane", "role": "member"}, {"name": "wren", "fullName": "Wren Adair", "role": "auditor"},
	} {
		var added struct{ Password string }
		fresh, err := s.add(ctx, "/api/people", p, &added)
		if err != nil {
			return err
		}
		if fresh {
			if err := s.choosePassword(ctx, p["name"].(string), added.Password); err != nil {
				return err
			}
			s.token = marit
		}
	}
	var everybody []struct {
		Name      string
		Elsewhere bool
	}
	if err := s.call(ctx, http.MethodGet, "/api/people", nil, &everybody); err != nil {
		return err
	}
	for _, p := range everybody {
		if p.Elsewhere {
			continue
		}
		if err := s.call(ctx, http.MethodPut, "/api/people/"+p.Name+"/subject", object{"subject": p.Name}, nil); err != nil {
			return err
		}
	}
	return nil
}

func agentsAndServers() []step {
	return []step{
		{"/api/agents", object{"name": "marit-quill", "kind": "quill", "owner": "marit"}},
		{"/api/agents", object{"name": "joss-quill", "kind": "quill", "owner": "joss"}},
		{"/api/agents", object{"name": "ottilie-parlour", "kind": "parlour", "owner": "ottilie"}},
		{"/api/agents", object{"name": "night-watch", "kind": "automation"}},
		{"/api/agents", object{"name": "quay-voice", "kind": "voice-line"}},
		{"/api/servers", object{"name": "sailings", "url": "http://127.0.0.1:4701/mcp", "token": ferries.SailingsToken}},
		{"/api/servers", object{"name": "berths", "command": "berths", "secretEnv": "BERTHS_KEY", "token": ferries.BerthsToken}},
		{"/api/servers", object{"name": "tannoy", "url": "http://127.0.0.1:4702/sse", "token": ferries.TannoyToken}},
		{"/api/servers", object{"name": "tides", "url": "http://127.0.0.1:4703/mcp"}},
		{
			"/api/servers",
			object{"name": "lost-property", "document": lostproperty.Document, "token": ferries.LostKey, "operations": []object{
				{
					"id":   "searchItems",
					"name": "search_items",
				}, {"id": "logItem", "name": "log_item"}, {"id": "releaseItem", "name": "release_item"},
			}},
		},
		{"/api/servers", object{"name": "crew", "url": "http://127.0.0.1:4705/mcp", "per": "person", "signIn": object{"grant": "code"}}},
		{"/api/secrets", object{"name": "fuel-client", "kind": "client-secret", "value": ferries.FuelSecret}},
		{
			"/api/servers",
			object{
				"name":   "fuel",
				"url":    "http://127.0.0.1:4706/mcp",
				"signIn": object{"grant": "client", "clientId": ferries.FuelClient, "clientSecret": "fuel-client"},
			},
		},
		{
			"/api/servers",
			object{"name": "pilotage", "url": "http://127.0.0.1:4708/mcp"},
		},
		{
			"/api/servers",
			object{"name": "customs", "url": "http://127.0.0.1:4707/mcp", "token": ferries.CustomsToken(time.Now()), "anyway": true},
		},
		{"/api/servers", object{"name": "drydock", "command": "drydock-mcp", "args": []string{"--stdio"}, "anyway": true}},
		{"/api/servers", object{"name": "harbour-radio", "url": "http://127.0.0.1:4711/mcp", "anyway": true}},
		{"/api/servers", object{"name": "stores", "command": "berths", "args": []string{"--stores"}}},
	}
}

// signInAtCrew does in a browser what a person does: it signs in at the watch
// list, once.
func (s *service) signInAtCrew(ctx context.Context, name string) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	browser := &http.Client{Jar: jar, Timeout: 20 * time.Second}
	do := func(method, path string, in, out any) error {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		req, err := http.NewRequestWithContext(ctx, method, s.base+path, bytes.NewReader(raw))
		if err != nil {
			return err
		}
		req.Header.Set("Content-Type", "application/json")
		res, err := browser.Do(req)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if res.StatusCode >= 300 {
			return fmt.Errorf("%s %s: %s", method, path, res.Status)
		}
		return json.NewDecoder(res.Body).Decode(out)
	}
	var me object
	if err := do(http.MethodPost, "/api/session", object{"name": name, "password": password}, &me); err != nil {
		return err
	}
	var have []struct{ Server, State string }
	if err := do(http.MethodGet, "/api/sign-ins", nil, &have); err != nil {
		return err
	}
	for _, h := range have {
		if h.Server == "crew" && h.State == "valid" {
			return nil
		}
	}
	var start struct{ URL string }
	if err := do(http.MethodPost, "/api/sign-ins", object{"server": "crew"}, &start); err != nil {
		return err
	}
	res, err := browser.Get(start.URL + "&as=" + name)
	if err != nil {
		return err
	}
	return res.Body.Close()
}

// watch calls the same tool for two people and prints what each gets.
func (s *service) watch(ctx context.Context, agents map[string]string) error {
	for agent, owner := range agents {
		if err := s.signIn(ctx, owner, password); err != nil {
			return err
		}
		var pass struct {
			Token string
			Pass  struct{ ID string }
		}
		if err := s.call(ctx, http.MethodPost, "/api/agents/"+agent+"/passes", object{"days": 1, "label": "demo"}, &pass); err != nil {
			return err
		}
		body := `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"who_is_on_watch","arguments":{},"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}}}}`
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.base+"/mcp/crew", strings.NewReader(body))
		if err != nil {
			return err
		}
		for k, v := range map[string]string{
			"Content-Type": "application/json", "Accept": "application/json, text/event-stream", "Authorization": "Bearer " + pass.Token,
			"MCP-Protocol-Version": "2026-07-28", "Mcp-Method": "tools/call", "Mcp-Name": "who_is_on_watch",
		} {
			req.Header.Set(k, v)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		var out struct {
			Result struct{ Content []struct{ Text string } }
		}
		answer, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		_ = res.Body.Close()
		if err != nil {
			return fmt.Errorf("%s got no answer from the watch list: %w", agent, err)
		}
		if err := json.Unmarshal(answer, &out); err != nil || len(out.Result.Content) == 0 {
			return fmt.Errorf("the watch list answered %s with %s %.500s", agent, res.Status, answer)
		}
		fmt.Printf("%-16s who_is_on_watch: %s\n", agent, strings.Join(strings.Fields(out.Result.Content[0].Text), " "))
		if err := s.call(ctx, http.MethodDelete, "/api/agents/"+agent+"/passes/"+pass.Pass.ID, nil, nil); err != nil {
			return err
		}
	}
	return nil
}

// choosePassword exchanges a one-time password for the demo's.
func (s *service) choosePassword(ctx context.Context, name, once string) error {
	if err := s.signIn(ctx, name, once); err != nil {
		return err
	}
	return s.call(ctx, http.MethodPut, "/api/session/password", object{"old": once, "new": password}, nil)
}

const quillConfig = `{
  // Quill keeps its settings here. Everything but mcpServers is its own business.
  "theme": "harbour",
  "fontSize": 13,
  "mcpServers": {
  },
}
`

// enrol signs the command line in and enrols Marit's Quill with it, once.
func (s *service) enrol(ctx context.Context) error {
	wrapper := fmt.Sprintf(
		"#!/bin/sh\n# The command line, signed in to the demo.\nXDG_CONFIG_HOME='%s' exec '%s' \"$@\"\n",
		filepath.Join(s.dir, "config"),
		s.bin,
	)
	if err := os.WriteFile(filepath.Join(s.dir, "bouncer"), []byte(wrapper), 0o700); err != nil {
		return err
	}
	if err := s.run(ctx, password, "login", "--person", "marit", "--address", s.base); err != nil {
		return err
	}
	config := filepath.Join(s.dir, "marit-quill.json")
	if _, err := os.Stat(config); err == nil {
		return nil
	}
	if err := os.WriteFile(config, []byte(quillConfig), 0o600); err != nil {
		return err
	}
	return s.run(ctx, "", "enrol", "marit-quill", "--config", config, "--yes")
}

func (s *service) run(ctx context.Context, stdin string, args ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(s.dir, "bouncer"), args...)
	cmd.Stdin = strings.NewReader(stdin)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("bouncer %s: %w\n%s", args[0], err, out)
	}
	return nil
}

func (s *service) guide(c *several) {
	rel := s.dir
	if wd, err := os.Getwd(); err == nil {
		if r, err := filepath.Rel(wd, s.dir); err == nil {
			rel = r
		}
	}
	fmt.Printf(`
Bouncer is running, with the stand-ins of Skerrow Ferries.

  Console    %s
  Sign in    marit (admin), joss (maintainer), ottilie, teo (members) or wren (auditor)
  Password   %s
             or sign in with Pilothouse, the stand-in of an identity provider
  Notices    %[4]s is told of held calls
  Mail       %[6]s shows what joss is told by mail
  Metrics    http://%[5]s/metrics, and copies of the state in %[3]s/copies

Some commands to try:
  %[3]s/bouncer agent reach marit-quill
  %[3]s/bouncer held list            (joss decides it, in the console or here)
  %[3]s/bouncer agent cost marit-quill
  %[3]s/bouncer checkup --all
  %[3]s/bouncer stats --since 14d
  %[3]s/bouncer journal --follow
  bin/quill --config %[3]s/marit-quill.json

Ctrl-C ends everything. The state stays in %[3]s.
`, s.base, password, rel, bellAddress, metricsAddress, mailAddress)
	if c != nil {
		fmt.Printf(`
It is three nodes, of one register, with a balancer at %s:
  %[2]s/bouncer node list
  kill -9 %[3]d                        (node south; it is started again after a while)
  bin/quill --config %[2]s/marit-quill.json
`, s.base, rel, c.pid("south"))
	}
}
