package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

func (t view) showOperations(d serverspec.DocumentInfo) error {
	var rows [][]string
	for _, o := range d.Operations {
		note := hints(o.ReadOnly, o.Destructive)
		if o.Problem != "" {
			note = "no tool: " + o.Problem
		}
		tool := o.Tool
		if tool == "" {
			tool = "-"
		}
		rows = append(rows, []string{o.ID, o.Method, clip(o.Path, 50), tool, note, clip(o.Summary, 60)})
	}
	return t.table([]string{"OPERATION", "METHOD", "PATH", "TOOL", "IS", "SUMMARY"}, rows)
}

func (t view) showServer(s apitype.ServerInfo) error {
	h := s.Health
	rows := slices.Concat(settingRows(s), healthRows(s.Name, h))
	for _, r := range rows {
		if r[1] == "" {
			r[1] = "-"
		}
		fmt.Fprintf(t.Out, "  %-14s %s\n", r[0], clip(r[1], 400))
	}
	t.showStages(h.Stages)
	for _, line := range strings.Split(strings.TrimSpace(h.Stderr), "\n") {
		if line != "" {
			fmt.Fprintf(t.Out, "  stderr       %s\n", clip(line, 200))
		}
	}
	return nil
}

// settingRows says how a server is set up.
func settingRows(s apitype.ServerInfo) [][2]string {
	rows := [][2]string{
		{"name", s.Name},
		{whatOf(s.Server), addressOf(s.Server)},
		{"transport", s.Transport},
		{"sharing", s.Sharing},
		{"secret", s.Secret},
		{"credential", whoseOf(s.Server)},
	}
	if s.Placement != "" && s.Placement != team.PlacedEverywhere {
		rows = append(rows, [2]string{"placement", placementOf(s)})
	}
	ofSignIn := [][2]string{{"kept to", s.Issuer}, {"redirect", s.Redirect}, {"private range", strings.Join(s.PrivateRanges, " ")}}
	for _, row := range ofSignIn {
		if row[1] != "" {
			rows = append(rows, row)
		}
	}
	for _, o := range s.Operations {
		rows = append(rows, [2]string{"operation", strings.TrimSpace(o.ID + " " + o.Name)})
	}
	for _, x := range s.Headers {
		rows = append(rows, [2]string{"header", x})
	}
	for _, x := range []struct {
		what string
		n    int
	}{{"MiB of memory", s.MemoryMiB}, {"open files", s.OpenFiles}, {"processes", s.Processes}} {
		if x.n > 0 {
			rows = append(rows, [2]string{"at most", fmt.Sprintf("%d %s", x.n, x.what)})
		}
	}
	if words := limitWords(s.CallLimits); words != "" {
		rows = append(rows, [2]string{"calls", words})
	}
	for _, l := range s.ToolLimits {
		rows = append(rows, [2]string{"calls of " + l.Tool, limitWords(l.CallLimits)})
	}
	if s.Command != "" {
		rows = append(
			rows,
			[2]string{"directory", s.Dir},
			[2]string{"variables", strings.Join(s.Env, " ")},
			[2]string{"secret in", s.SecretEnv},
		)
	}
	return rows
}

// healthRows says how a server is now.
func healthRows(name string, h team.Health) [][2]string {
	rows := [][2]string{
		{"state", h.State + since(h.Since)},
		{"server says", strings.TrimSpace(h.ServerName + " " + h.ServerVersion)},
		{"revision", h.Revision},
		{"tools", strconv.Itoa(h.Tools)},
		{"prompts", strconv.Itoa(h.Prompts)},
		{"resources", strconv.Itoa(h.Resources)},
	}
	if h.Finding != nil {
		rows = append(
			rows,
			[2]string{"cause", string(h.Finding.Cause)},
			[2]string{"error", h.Finding.Message},
			[2]string{"fix", h.Finding.Remedy},
			[2]string{"who can fix it", h.Finding.Actor},
		)
	}
	if h.PID != 0 && h.Started != nil {
		rows = append(rows, [2]string{"process", fmt.Sprintf("%d, started %s", h.PID, clock(*h.Started))})
	}
	if h.Altered != "" {
		rows = append(rows, [2]string{
			"changed", h.Altered + " changed since; the process runs the code before. To take it up: bouncer server restart " + name,
		})
	}
	if h.Noise > 0 {
		rows = append(
			rows,
			[2]string{"noise", fmt.Sprintf("%d lines on standard output that are not the protocol; they are passed over", h.Noise)},
		)
	}
	for _, l := range h.LeftOut {
		rows = append(rows, [2]string{"left out", l})
	}
	return rows
}

// limitWords says how long calls may take and what they may bring; "" for no limits.
func limitWords(l team.CallLimits) string {
	var words []string
	if l.CallSeconds > 0 {
		words = append(words, "take at most "+span.Text(time.Duration(l.CallSeconds)*time.Second))
	}
	if l.ResultKiB > 0 {
		becomes := "refused"
		if l.TooLarge == team.TooLargeCut {
			becomes = "cut"
		}
		words = append(words, fmt.Sprintf("results at most %d KiB, larger ones are %s", l.ResultKiB, becomes))
	}
	return strings.Join(words, "; ")
}

func whatOf(s team.Server) string {
	if s.Command != "" {
		return "command"
	}
	return "url"
}

func whoseOf(s team.Server) string {
	out := ""
	if w := s.SignIn; w != nil {
		out = map[string]string{
			"code":      "sign-in with a browser",
			"client":    "Bouncer's own credentials (OAuth)",
			"workload":  "the platform vouches for Bouncer",
			"assertion": "the identity provider vouches",
		}[w.Grant]
	}
	if s.Per != "" && s.Per != "team" {
		out = strings.TrimPrefix(out+", each "+s.Per+" their own", ", ")
	}
	for _, p := range s.Places {
		out = strings.TrimPrefix(out+", also "+p.How+" "+p.Name+" from secret "+p.Secret, ", ")
	}
	return out
}

func addressOf(s team.Server) string {
	if s.Command != "" {
		return strings.Join(append([]string{s.Command}, s.Args...), " ")
	}
	return s.URL
}

func (t view) showStages(stages []team.Stage) {
	for _, s := range stages {
		mark := "ok"
		if !s.OK {
			mark = "failed: " + s.Note
		}
		fmt.Fprintf(t.Out, "  %-14s %8.1f ms  %s\n", s.Name, s.Millis, mark)
	}
}

func hints(readOnly, destructive bool) string {
	switch {
	case destructive:
		return "destructive"
	case readOnly:
		return "read only"
	}
	return ""
}

func clip(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func since(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return " since " + clock(t)
}

func when(t *time.Time) string {
	if t == nil {
		return ""
	}
	return clock(*t)
}

// placementOf says at which nodes a process runs, and at which it does now.
func placementOf(s apitype.ServerInfo) string {
	text, at := "at one node at a time", "now at "
	if label, ok := team.PlacedAt(s.Placement); ok {
		text, at = "at nodes with the label "+label, "calls from here go to "
	}
	if s.Health.Node == "" {
		return text
	}
	return text + "; " + at + s.Health.Node
}
