package finder

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
)

// Limits on one search. Ranking costs some microseconds for each tool that fits, so that a
// step ranks no more than rareEnough of them.
const (
	maxQuery   = 1_000 // bytes
	maxWords   = 16
	maxPaired  = 3
	rareEnough = 400
	maxCounted = 5_000 // words whose count is remembered
)

// Find gives keep the tools that fit words, the best first, until it has said yes to so
// many. First come tools that have every word, then those that have the rare ones or
// several of the others, and where that finds nothing whatever has any of them. Names
// count most.
func (x *Index) Find(ctx context.Context, words string, most int, keep func(server, tool string) bool) error {
	known, err := x.known(ctx, words)
	if err != nil || len(known) == 0 {
		return err
	}
	found := 0
	looked := map[string]bool{}
	once := func(server, tool string) bool {
		key := server + "\x00" + tool
		if !looked[key] {
			looked[key] = true
			if keep(server, tool) {
				found++
			}
		}
		return found >= most
	}
	steps := []struct {
		query string
		most  int
	}{{join(known, " AND "), rareEnough}, {selective(known), rareEnough}, {join(known, " OR "), -1}}
	for i, step := range steps {
		if step.query == "" || i == len(steps)-1 && found > 0 {
			continue
		}
		if err := x.rank(ctx, step.query, step.most, once); err != nil {
			return fmt.Errorf("search the tools: %w", err)
		}
		if found >= most {
			break
		}
	}
	return nil
}

// rank gives each the tools that fit a query, the best first, until it says enough. most
// bounds how many are ranked; -1 for all.
func (x *Index) rank(ctx context.Context, query string, most int, each func(server, tool string) (enough bool)) error {
	rows, err := x.db.QueryContext(ctx, `SELECT server, tool FROM (
			SELECT server, tool, bm25(tools, 0, 0, 10.0, 6.0, 3.0, 1.5) AS rank FROM tools WHERE tools MATCH ? LIMIT ?
		) ORDER BY rank`, query, most)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var server, tool string
		if err := rows.Scan(&server, &tool); err != nil {
			return err
		}
		if each(server, tool) {
			return nil
		}
	}
	return rows.Err()
}

// term is a word as it is searched for, and how many tools have it, counted as far as it
// makes a difference.
type term struct {
	text  string
	tools int
}

// known are the words that tools have, the rarest first. Words that a quarter of all tools
// have tell none from the others, so that they only stand where there are no better ones.
func (x *Index) known(ctx context.Context, words string) ([]term, error) {
	x.mu.RLock()
	usual := max(len(x.have)/4, rareEnough/2)
	x.mu.RUnlock()
	var out []term
	for _, w := range split(words) {
		// The beginning of a longer word will do where nothing has the word itself.
		for _, text := range [...]string{`"` + w + `"`, `"` + w + `"*`} {
			n, err := x.count(ctx, text, max(usual, rareEnough)+1)
			if err != nil {
				return nil, fmt.Errorf("search the tools: %w", err)
			}
			if n > 0 {
				out = append(out, term{text, n})
				break
			}
			if len([]rune(w)) < 3 {
				break
			}
		}
	}
	slices.SortStableFunc(out, func(a, b term) int { return cmp.Compare(a.tools, b.tools) })
	if telling := slices.IndexFunc(out, func(t term) bool { return t.tools > usual }); telling > 0 {
		out = out[:telling]
	}
	return out, nil
}

func (x *Index) count(ctx context.Context, text string, most int) (n int, err error) {
	x.mu.RLock()
	n, ok := x.often[text]
	x.mu.RUnlock()
	if ok {
		return n, nil
	}
	err = x.db.QueryRowContext(ctx, `SELECT count(*) FROM (SELECT 1 FROM tools WHERE tools MATCH ? LIMIT ?)`, text, most).Scan(&n)
	if err != nil {
		return 0, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.often) >= maxCounted {
		clear(x.often)
	}
	x.often[text] = n
	return n, nil
}

// selective asks for the rare ones of the words, and for the others in pairs.
func selective(known []term) string {
	sum, rare := 0, 0
	for rare < len(known) && sum+known[rare].tools <= rareEnough {
		sum += known[rare].tools
		rare++
	}
	var parts []string
	for _, t := range known[:rare] {
		parts = append(parts, t.text)
	}
	common := known[rare:]
	common = common[:min(len(common), maxPaired)]
	for i, a := range common {
		for _, b := range common[i+1:] {
			parts = append(parts, "("+a.text+" AND "+b.text+")")
		}
	}
	return strings.Join(parts, " OR ")
}

func join(known []term, how string) string {
	parts := make([]string, 0, len(known))
	for _, t := range known {
		parts = append(parts, t.text)
	}
	return strings.Join(parts, how)
}

// idle are words that say nothing of a tool.
var idle = strings.Fields(`a an the of to for in on at and or i me my is are do does how what which can with from by it that this
	want need please tool tools be there have has who when we our`)

// split takes what somebody asks for apart into its words, without those that say nothing.
// No word holds anything that is an operator of a query.
func split(words string) []string {
	if len(words) > maxQuery {
		words = strings.ToValidUTF8(words[:maxQuery], "")
	}
	var out []string
	for _, w := range strings.Fields(strings.ToLower(spelled(words))) {
		if len(w) < 2 || slices.Contains(idle, w) || slices.Contains(out, w) {
			continue
		}
		if out = append(out, w); len(out) == maxWords {
			break
		}
	}
	return out
}
