// Package tape writes what the flight recorder keeps to the disk, as tapes: masked,
// readable, bounded. A tape is of a server, or of an agent. It is shown as a conversation,
// exported in open formats, imported on another machine, compared, and replayed against
// what is now.
package tape

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/inside"
	"bouncer/internal/diagnose/recorder"
	"bouncer/internal/link"
	"bouncer/internal/store"
)

// Bounds on tapes: how many are kept, how large one may be, and all together.
const (
	maxTapes = 200
	maxTape  = 4 << 20
	maxAll   = 200 << 20
	maxWords = 300 // of a reason
)

// Of one agent there is a tape of trouble every so often; of others, some may wait.
const (
	troubleEvery = time.Hour // a whole day of trouble is an eighth of all tapes
	maxTroubles  = 32
)

// Format is the version of the format that tapes are written in.
const Format = 1

// Deps are what the service stands on.
type Deps struct {
	Dir      string             // where tapes lie
	Recorder *recorder.Recorder // of servers, by their names
	Agents   *recorder.Recorder // of agents, by their ids
	Masker   func() *mask.Masker
	Store    *store.Store
	Version  string
	Log      *slog.Logger
	// Dial opens another conversation with a server, which the caller closes.
	Dial func(ctx context.Context, s team.Server) (link.Transport, error)
	// Serve serves a request as an agent.
	Serve inside.Serve
}

// Service keeps tapes. It is safe for concurrent use; Start and Close frame its life.
type Service struct {
	Deps
	troubles chan trouble
	stop     context.CancelFunc
	ended    chan struct{}

	mu sync.Mutex // held while the directory is altered, so that its bounds hold
}

// trouble is why a tape of an agent is to be kept.
type trouble struct{ agentID, why string }

// New returns the service.
func New(d Deps) *Service {
	return &Service{Deps: d, troubles: make(chan trouble, maxTroubles), ended: make(chan struct{})}
}

// Start begins to keep tapes of agents that are in trouble.
func (svc *Service) Start() {
	ctx, stop := context.WithCancel(context.Background())
	svc.stop = stop
	go func() {
		defer close(svc.ended)
		kept := map[string]time.Time{}
		for {
			select {
			case t := <-svc.troubles:
				if now := time.Now(); now.Sub(kept[t.agentID]) >= troubleEvery {
					if len(kept) > maxTapes {
						clear(kept)
					}
					kept[t.agentID] = now
					svc.keepTrouble(ctx, t)
				}
			case <-ctx.Done():
				return
			}
		}
	}()
}

// Close ends that.
func (svc *Service) Close() {
	svc.stop()
	<-svc.ended
}

// Trouble has a tape kept of an agent for which something went wrong. It does not block:
// when there is too much trouble, some of it has no tape.
func (svc *Service) Trouble(agentID, why string) {
	select {
	case svc.troubles <- trouble{agentID, why}:
	default:
	}
}

func (svc *Service) keepTrouble(ctx context.Context, t trouble) {
	list, err := svc.Store.Agents(ctx, time.Now())
	if err != nil {
		svc.Log.Error("a tape of an agent could not be kept", "error", err)
		return
	}
	for _, a := range list {
		if a.ID != t.agentID {
			continue
		}
		_, err := svc.Keep(ctx, team.Person{Name: "bouncer"}, apitype.KeepTape{Agent: a.Name, Reason: t.why})
		if err != nil {
			svc.Log.Error("a tape of an agent could not be kept", "agent", a.Name, "error", err)
		}
	}
}

var kinds = map[link.Heard]string{
	link.Sent: "sent", link.Received: "received", link.Noise: "noise", link.Stderr: "stderr", link.State: "state", link.Broke: "broke",
}

// Live returns what the recorder has of a server, from a number on.
func (svc *Service) Live(ctx context.Context, server string, from uint64) ([]apitype.TapeEntry, error) {
	if _, err := svc.Store.ServerByName(ctx, server); err != nil {
		return nil, store.Explain(err, "server", server)
	}
	return svc.entries(svc.Recorder.Since(server, from)), nil
}

// LiveAgent returns what the recorder has of an agent, from a number on.
func (svc *Service) LiveAgent(ctx context.Context, agent string, from uint64) ([]apitype.TapeEntry, error) {
	a, err := svc.Store.AgentByName(ctx, agent, time.Now())
	if err != nil {
		return nil, store.Explain(err, "agent", agent)
	}
	return svc.entries(svc.Agents.Since(a.ID, from)), nil
}

// maxLeftOut bounds what is left out at the end of a text that was cut, in bytes.
const maxLeftOut = 512

// whole is a text without the end of one that was cut, where half of an encoded secret
// would not be recognised. The beginning of one that stands as it is always is.
func whole(e recorder.Entry, longest int) []byte {
	if e.Size <= len(e.Text) {
		return e.Text
	}
	return e.Text[:max(0, len(e.Text)-min(longest, maxLeftOut))]
}

// entries makes what was heard fit to be shown: masked, with what each message is.
func (svc *Service) entries(list []recorder.Entry) []apitype.TapeEntry {
	out := []apitype.TapeEntry{}
	if len(list) == 0 {
		return out
	}
	m, first := svc.Masker(), list[0].At
	for _, e := range list {
		one := apitype.TapeEntry{
			N: e.N, At: e.At.UTC(), MS: float64(e.At.Sub(first).Microseconds()) / 1000, Line: e.Line, Kind: kinds[e.What], Size: e.Size,
			Text: m.Text(strings.ToValidUTF8(string(whole(e, m.Longest())), "�")),
		}
		if e.Status != 0 {
			one.Kind, one.Status, one.Method, one.TookMS = "answer", e.Status, e.Method, float64(e.Took.Microseconds())/1000
			for name, values := range e.Header {
				if one.Headers == nil {
					one.Headers = map[string]string{}
				}
				one.Headers[name] = m.Text(strings.Join(values, ", "))
			}
		} else {
			one.Method, one.ID = methodOf(e.Text)
		}
		out = append(out, one)
	}
	return out
}

var (
	methodAt = regexp.MustCompile(`"method"\s*:\s*"([^"]{1,80})"`)
	idAt     = regexp.MustCompile(`"id"\s*:\s*("[^"]{0,60}"|\d{1,20})`)
)

// methodOf reads the method and the id of a message that may be cut off.
func methodOf(text []byte) (method, id string) {
	head := text[:min(len(text), 512)]
	if f, err := wire.ReadFrame(text); err == nil {
		return f.Method, string(f.ID.Of(text))
	}
	if !bytes.HasPrefix(bytes.TrimSpace(head), []byte("{")) {
		return "", ""
	}
	if m := methodAt.FindSubmatch(head); m != nil {
		method = string(m[1])
	}
	if m := idAt.FindSubmatch(head); m != nil {
		id = string(m[1])
	}
	return method, id
}

// heard returns what the recorder has of the server or the agent that is named.
func (svc *Service) heard(ctx context.Context, in apitype.KeepTape) ([]apitype.TapeEntry, error) {
	switch {
	case in.Agent == "":
		return svc.Live(ctx, in.Server, 0)
	case in.Server != "":
		return nil, &team.FieldError{Field: "agent", Why: "cannot be named together with a server: a tape is of one of them"}
	}
	return svc.LiveAgent(ctx, in.Agent, 0)
}

// Keep writes what was heard of a server, or of an agent, to the disk.
func (svc *Service) Keep(ctx context.Context, by team.Person, in apitype.KeepTape) (apitype.TapeInfo, error) {
	if len(in.Reason) > maxWords {
		return apitype.TapeInfo{}, &team.FieldError{Field: "reason", Why: fmt.Sprintf("is longer than %d bytes", maxWords)}
	}
	list, err := svc.heard(ctx, in)
	if err != nil {
		return apitype.TapeInfo{}, err
	}
	if len(list) == 0 {
		why := &team.ConflictError{
			Field: "server", Why: "nothing was heard of server " + in.Server + " since the service started",
			Hint: "have it looked at: bouncer server check " + in.Server,
		}
		if in.Agent != "" {
			why.Field, why.Why = "agent", "nothing was heard of agent "+in.Agent+" since the service started"
			why.Hint = "see whether it is let in: bouncer why " + in.Agent
		}
		return apitype.TapeInfo{}, why
	}
	info := apitype.TapeInfo{
		Tape: Format, ID: team.NewID(), Server: in.Server, Agent: in.Agent, Since: list[0].At, Until: list[len(list)-1].At,
		Reason: in.Reason, By: by.Name,
		Bouncer: svc.Version, Entries: len(list),
	}
	return svc.write(info, list)
}

// write writes a tape, and drops the oldest when there are too many.
func (svc *Service) write(info apitype.TapeInfo, list []apitype.TapeEntry) (apitype.TapeInfo, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	if err := enc.Encode(info); err != nil {
		return info, fmt.Errorf("write a tape: %w", err)
	}
	for _, e := range list {
		if err := enc.Encode(e); err != nil {
			return info, fmt.Errorf("write a tape: %w", err)
		}
	}
	if b.Len() > maxTape {
		return info, &team.FieldError{Field: "text", Why: fmt.Sprintf("is larger than the %d MiB that a tape may have", maxTape>>20)}
	}
	svc.mu.Lock()
	defer svc.mu.Unlock()
	if err := os.MkdirAll(svc.Dir, 0o700); err != nil {
		return info, fmt.Errorf("make the directory of tapes: %w", err)
	}
	if err := os.WriteFile(svc.path(info.ID), b.Bytes(), 0o600); err != nil {
		return info, fmt.Errorf("write a tape: %w", err)
	}
	info.Bytes = b.Len()
	return info, svc.trim()
}

func (svc *Service) path(id string) string { return filepath.Join(svc.Dir, id+".jsonl") }

// trim drops the oldest tapes until the bounds hold. The caller holds the lock.
func (svc *Service) trim() error {
	list, err := svc.files()
	if err != nil {
		return err
	}
	var sum int64
	for i, f := range list { // the newest first
		if sum += f.Size(); i >= maxTapes || sum > maxAll {
			if err := os.Remove(filepath.Join(svc.Dir, f.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("remove an old tape: %w", err)
			}
		}
	}
	return nil
}

// files are the files of tapes, the newest first: their names begin with the time.
func (svc *Service) files() ([]fs.FileInfo, error) {
	entries, err := os.ReadDir(svc.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the directory of tapes: %w", err)
	}
	var list []fs.FileInfo
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && strings.HasSuffix(e.Name(), ".jsonl") {
			list = append(list, info)
		}
	}
	slices.SortFunc(list, func(a, b fs.FileInfo) int { return strings.Compare(b.Name(), a.Name()) })
	return list, nil
}

// List returns the tapes, the newest first; of one server or agent where one is named.
func (svc *Service) List(server, agent string) ([]apitype.TapeInfo, error) {
	files, err := svc.files()
	if err != nil {
		return nil, err
	}
	out := []apitype.TapeInfo{}
	for _, f := range files {
		info, err := svc.head(filepath.Join(svc.Dir, f.Name()))
		if err != nil {
			svc.Log.Warn("a tape cannot be read", "file", f.Name(), "error", err)
			continue
		}
		if (server == "" || info.Server == server) && (agent == "" || info.Agent == agent) {
			info.Bytes = int(f.Size())
			out = append(out, info)
		}
	}
	return out, nil
}

// head reads what a tape says of itself.
func (svc *Service) head(path string) (info apitype.TapeInfo, err error) {
	f, err := os.Open(path)
	if err != nil {
		return info, err
	}
	defer f.Close()
	line, err := bufio.NewReaderSize(f, 8<<10).ReadBytes('\n')
	if err != nil {
		return info, err
	}
	return info, json.Unmarshal(line, &info)
}

var isID = regexp.MustCompile(`^[0-9A-Za-z]{8,40}$`)

// Get returns a tape.
func (svc *Service) Get(id string) (apitype.Tape, error) {
	if !isID.MatchString(id) {
		return apitype.Tape{}, &team.NotFoundError{Kind: "tape", Name: id}
	}
	raw, err := os.ReadFile(svc.path(id))
	if errors.Is(err, fs.ErrNotExist) {
		return apitype.Tape{}, &team.NotFoundError{Kind: "tape", Name: id}
	}
	if err != nil {
		return apitype.Tape{}, fmt.Errorf("read a tape: %w", err)
	}
	t, err := Parse(raw)
	t.Bytes = len(raw)
	return t, err
}

// Remove removes a tape.
func (svc *Service) Remove(id string) error {
	if _, err := svc.Get(id); err != nil {
		return err
	}
	svc.mu.Lock()
	defer svc.mu.Unlock()
	if err := os.Remove(svc.path(id)); err != nil {
		return fmt.Errorf("remove a tape: %w", err)
	}
	return nil
}

// Parse reads a tape as it is exported. The error is a *team.FieldError.
func Parse(raw []byte) (t apitype.Tape, err error) {
	if len(raw) > maxTape {
		return t, &team.FieldError{Field: "text", Why: fmt.Sprintf("is larger than the %d MiB that a tape may have", maxTape>>20)}
	}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, maxTape)
	n := 0
	t.List = []apitype.TapeEntry{}
	for lines.Scan() {
		line := bytes.TrimSpace(lines.Bytes())
		if n++; len(line) == 0 {
			continue
		}
		if t.Tape == 0 {
			if err := json.Unmarshal(line, &t.TapeInfo); err != nil || t.Tape == 0 {
				return t, &team.FieldError{Field: "text", Why: "is no tape: its first line does not say which format it has"}
			}
			if t.Tape > Format {
				return t, &team.FieldError{
					Field: "text",
					Why: fmt.Sprintf("is a tape of the format %d, and %d is the newest that is read here",
						t.Tape, Format),
				}
			}
			continue
		}
		var e apitype.TapeEntry
		if err := json.Unmarshal(line, &e); err != nil || e.Kind == "" {
			return t, &team.FieldError{Field: "text", Why: fmt.Sprintf("is no tape: line %d is no entry", n)}
		}
		t.List = append(t.List, e)
	}
	if err := lines.Err(); err != nil || t.Tape == 0 {
		return t, &team.FieldError{Field: "text", Why: "is no tape: it is empty, or cannot be read by lines"}
	}
	t.Entries = len(t.List)
	return t, nil
}

// Import takes a tape of another machine.
func (svc *Service) Import(by team.Person, in apitype.ImportTape) (apitype.TapeInfo, error) {
	t, err := Parse([]byte(in.Text))
	if err != nil {
		return t.TapeInfo, err
	}
	m := svc.Masker()
	for i := range t.List {
		t.List[i].Text = m.Text(t.List[i].Text)
	}
	t.ID, t.Imported, t.By = team.NewID(), true, by.Name
	return svc.write(t.TapeInfo, t.List)
}

// Export writes a tape in an open format: "jsonl", or "har" for its exchanges over HTTP.
func (svc *Service) Export(id, form string) (raw []byte, media string, err error) {
	t, err := svc.Get(id)
	if err != nil {
		return nil, "", err
	}
	switch form {
	case "", "jsonl":
		raw, err := os.ReadFile(svc.path(id))
		if err != nil {
			return nil, "", fmt.Errorf("read a tape: %w", err)
		}
		return raw, "application/jsonl", nil
	case "har":
		raw, err := json.MarshalIndent(archive(t), "", "  ")
		if err != nil {
			return nil, "", fmt.Errorf("write an archive: %w", err)
		}
		return raw, "application/json", nil
	}
	return nil, "", &team.FieldError{Field: "form", Why: "must be jsonl or har"}
}
