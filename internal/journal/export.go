package journal

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

// Exporter writes calls in an open format.
type Exporter interface {
	Write(team.Call) error
	End() error // of all; without it something may not have been written
}

type jsonLines struct{ to *json.Encoder }

// NewJSONLines returns an Exporter of JSON, one call in each line.
func NewJSONLines(w io.Writer) Exporter { return jsonLines{json.NewEncoder(w)} }

// Write writes a call.
func (e jsonLines) Write(c team.Call) error {
	if err := e.to.Encode(c); err != nil {
		return fmt.Errorf("write a call: %w", err)
	}
	return nil
}

// End does nothing.
func (jsonLines) End() error { return nil }

// columns are the names of CSV, in their order.
var columns = []string{
	"id", "at", "agent", "person", "server", "tool", "decision", "rule", "outcome", "error", "us", "bytesIn", "bytesOut", "session", "times",
	"cut", "arguments", "result",
}

type csvLines struct {
	to   *csv.Writer
	head bool
}

// NewCSV returns an Exporter of CSV (RFC 4180) with a line of names. What a spreadsheet would
// take for a formula is marked as text: agents choose what stands there.
func NewCSV(w io.Writer) Exporter { return &csvLines{to: csv.NewWriter(w)} }

// Write writes a call.
func (e *csvLines) Write(c team.Call) error {
	e.names()
	rule := c.RuleName
	if rule == "" {
		rule = c.Rule
	}
	row := []string{
		c.ID, c.At.UTC().Format(time.RFC3339Nano), c.Agent, c.Person, c.Server, c.Tool, c.Decision, rule, c.Outcome, c.Error,
		strconv.FormatInt(c.Micros, 10), strconv.Itoa(c.BytesIn), strconv.Itoa(c.BytesOut), c.Session, strconv.Itoa(c.Times),
		strconv.FormatBool(c.Cut), c.Arguments, c.Result,
	}
	for i, cell := range row {
		row[i] = asText(cell)
	}
	if err := e.to.Write(row); err != nil {
		return fmt.Errorf("write a call: %w", err)
	}
	return nil
}

// End writes what is left.
func (e *csvLines) End() error {
	e.names()
	e.to.Flush()
	if err := e.to.Error(); err != nil {
		return fmt.Errorf("write the calls: %w", err)
	}
	return nil
}

// names writes the line of names, once. Like whatever fails, that is told by what is written next.
func (e *csvLines) names() {
	if !e.head {
		e.head = true
		_ = e.to.Write(columns)
	}
}

func asText(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}
