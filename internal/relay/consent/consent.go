// Package consent asks the agent's own user about a call that a rule holds: by an
// elicitation (MCP 2025-06-18 and later), which the assistant shows. It writes the question
// and reads the answer; carrying both is the caller's matter.
package consent

import (
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"

	"bouncer/internal/core/rules"
	"bouncer/internal/held"
)

// Method is the request that asks.
const Method = "elicitation/create"

// Limits on what is shown and read.
const (
	maxArguments = 2_000 // characters
	maxWord      = 500   // bytes
)

// Question is the parameters of the request.
func Question(c held.Call, arguments string) json.RawMessage {
	var b strings.Builder
	fmt.Fprintf(&b, "Bouncer asks: may %s call %s of server %s?", c.Agent, c.Tool, c.Server)
	if len(c.Effects) > 0 {
		fmt.Fprintf(&b, " It is %s.", strings.Join(c.Effects, ", "))
	}
	if len(c.Arguments) > 0 {
		fmt.Fprintf(&b, "\nArguments: %s", shorten(arguments))
	}
	fmt.Fprintf(&b, "\nRule %s holds it", c.Rule.Name)
	if c.Rule.Note != "" {
		fmt.Fprintf(&b, ": %s", c.Rule.Note)
	}
	type obj = map[string]any
	ways := []string{held.Once, held.ForHour, held.Refused}
	words := []string{"Carry it out", "Carry out this and the like for an hour", "Do not carry it out"}
	if c.Session != "" {
		ways = []string{held.Once, held.ForNow, held.ForHour, held.Refused}
		words = []string{words[0], "Carry out this and the like in this session", words[1], words[2]}
	}
	// Texts cannot fail to be written.
	raw, _ := json.Marshal(obj{
		"message": b.String(),
		"requestedSchema": obj{
			"type": "object", "required": []string{"decision"},
			"properties": obj{
				"decision": obj{"type": "string", "title": "Decision", "enum": ways, "enumNames": words},
				"word":     obj{"type": "string", "title": "A word to the assistant", "maxLength": maxWord},
			},
		},
	})
	return raw
}

func shorten(s string) string {
	if utf8.RuneCountInString(s) <= maxArguments {
		return s
	}
	return string([]rune(s)[:maxArguments]) + " … (" + fmt.Sprint(len(s)) + " bytes in all)"
}

// Read reads the result of an elicitation: what the agent's user decided. Anything that is
// no clear admission is none: the error is an *held.UndecidedError where nobody decided.
func Read(result []byte, inSession bool) (held.Verdict, error) {
	var in struct {
		Action  string
		Content struct{ Decision, Word string }
	}
	undecided := func(how, why string) (held.Verdict, error) {
		return held.Verdict{}, &held.UndecidedError{How: how, Why: why}
	}
	if err := json.Unmarshal(result, &in); err != nil {
		return undecided(held.Cancelled, "a rule holds it, and the assistant's answer to the question about it cannot be read")
	}
	if len(in.Content.Word) > maxWord {
		in.Content.Word = strings.ToValidUTF8(in.Content.Word[:maxWord], "")
	}
	v := held.Verdict{ByName: "the agent's user", Asked: true, How: in.Content.Decision, Word: strings.TrimSpace(in.Content.Word)}
	switch in.Action {
	case "accept":
	case "decline":
		v.How = held.Refused
		return v, nil
	case "cancel":
		return undecided(held.Cancelled, "a rule holds it, and the agent's user was asked and did not decide")
	default:
		return undecided(held.Cancelled, "a rule holds it, and the assistant answered the question about it with an unknown action")
	}
	switch v.How {
	case held.Once, held.ForHour:
		v.Admitted = true
	case held.ForNow:
		if v.Admitted = inSession; !inSession {
			return undecided(held.Cancelled, "a rule holds it, and the answer is for a session that there is not")
		}
	case held.Refused:
	default:
		return undecided(held.Cancelled, "a rule holds it, and the agent's user chose nothing that was asked")
	}
	return v, nil
}

// Silent is what becomes of a held call when its agent's user was asked and did not answer.
func Silent(rule *rules.Rule) error {
	return &held.UndecidedError{
		How: held.Expired,
		Why: fmt.Sprintf("rule %s holds it, and the agent's user was asked and did not answer in %s", rule.Name, rule.HoldFor()),
	}
}
