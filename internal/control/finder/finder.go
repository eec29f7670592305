// Package finder searches tools in words: over their names, titles, descriptions and
// arguments, ranked by SQLite's full-text search. The index is in memory and follows what
// servers offer; what an agent may see is the searcher's matter.
package finder

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"unicode"

	_ "modernc.org/sqlite" // the driver

	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/snapshot"
)

// Index is the index of all tools. It is safe for concurrent use; Start and Close frame its
// life.
type Index struct {
	db       *sql.DB
	registry *registry.Registry
	log      *slog.Logger
	stop     context.CancelFunc
	ended    chan struct{}

	mu    sync.RWMutex       // guards what follows; held over no statement
	have  map[string]indexed // by server and tool
	often map[string]int     // how many tools have a word, as far as it was counted
}

// indexed is a tool in the index.
type indexed struct {
	fingerprint string
	row         int64
}

// New returns an empty index.
func New(log *slog.Logger) (*Index, error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, fmt.Errorf("open the index of tools: %w", err)
	}
	db.SetMaxOpenConns(1) // each connection would have a memory of its own
	_, err = db.Exec(`CREATE VIRTUAL TABLE tools USING fts5(server UNINDEXED, tool UNINDEXED, name, title, description, arguments,
		tokenize = 'porter unicode61 remove_diacritics 2')`)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("make the index of tools: %w", err), db.Close())
	}
	return &Index{db: db, log: log, ended: make(chan struct{}), have: map[string]indexed{}, often: map[string]int{}}, nil
}

// Start has the index follow what servers offer.
func (x *Index) Start(r *registry.Registry) {
	ctx, stop := context.WithCancel(context.Background())
	x.registry, x.stop = r, stop
	go x.run(ctx)
}

// Close ends that.
func (x *Index) Close() {
	if x.stop != nil {
		x.stop()
		<-x.ended
	}
	_ = x.db.Close()
}

func (x *Index) run(ctx context.Context) {
	defer close(x.ended)
	topics, done := x.registry.Listen()
	defer done()
	for {
		if err := x.Take(ctx, x.registry.Current()); err != nil && ctx.Err() == nil {
			x.log.Error("the index of tools could not be brought up to date", "error", err)
		}
		select {
		case _, open := <-topics:
			if !open {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// Take brings the index to what a snapshot has: what is the same is left alone.
func (x *Index) Take(ctx context.Context, now *snapshot.Snapshot) error {
	want := map[string]tools.Tool{}
	for _, s := range now.Servers {
		for _, t := range s.Offer.Lists[tools.Tools] {
			want[s.Name+"\x00"+t.Name] = t
		}
		for _, own := range s.ByAgent {
			for _, t := range own.Offer.Lists[tools.Tools] {
				want[s.Name+"\x00"+t.Name] = t
			}
		}
	}
	x.mu.RLock()
	var gone, come []string
	for key, in := range x.have {
		if t, still := want[key]; !still || t.Fingerprint != in.fingerprint {
			gone = append(gone, key)
		}
	}
	for key, t := range want {
		if x.have[key].fingerprint != t.Fingerprint {
			come = append(come, key)
		}
	}
	rows := make([]int64, 0, len(gone))
	for _, key := range gone {
		rows = append(rows, x.have[key].row)
	}
	x.mu.RUnlock()
	if len(gone)+len(come) == 0 {
		return nil
	}
	tx, err := x.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // nothing after a commit
	for _, row := range rows {
		if _, err := tx.ExecContext(ctx, `DELETE FROM tools WHERE rowid = ?`, row); err != nil {
			return err
		}
	}
	added := make([]int64, 0, len(come))
	for _, key := range come {
		server, tool, _ := strings.Cut(key, "\x00")
		t := want[key]
		sum := t.Summary()
		done, err := tx.ExecContext(ctx, `INSERT INTO tools (server, tool, name, title, description, arguments) VALUES (?, ?, ?, ?, ?, ?)`,
			server, tool, spelled(server+" "+tool), sum.Title, sum.Description, argumentsOf(t))
		if err != nil {
			return err
		}
		row, err := done.LastInsertId()
		if err != nil {
			return err
		}
		added = append(added, row)
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	clear(x.often)
	for _, key := range gone {
		delete(x.have, key)
	}
	for i, key := range come {
		x.have[key] = indexed{want[key].Fingerprint, added[i]}
	}
	return nil
}

// spelled takes names apart into their words: find_sailings and findSailings are both find
// sailings.
func spelled(name string) string {
	var b strings.Builder
	before := ' '
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			b.WriteByte(' ')
		case unicode.IsUpper(r) && unicode.IsLower(before):
			b.WriteByte(' ')
			b.WriteRune(r)
		default:
			b.WriteRune(r)
		}
		before = r
	}
	return b.String()
}

// argumentsOf are the names and descriptions of a tool's arguments.
func argumentsOf(t tools.Tool) string {
	var schema struct {
		Properties map[string]struct {
			Title, Description string
			Enum               []any
		}
	}
	if json.Unmarshal(t.Member("inputSchema"), &schema) != nil {
		return ""
	}
	var b strings.Builder
	for name, p := range schema.Properties {
		fmt.Fprintf(&b, "%s %s %s ", spelled(name), p.Title, p.Description)
		for _, v := range p.Enum {
			fmt.Fprintf(&b, "%v ", v)
		}
	}
	return b.String()
}
