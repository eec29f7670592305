package cli

import (
	"errors"
	"flag"
	"fmt"
	"regexp"
	"strings"

	"bouncer/internal/client"
)

// flagNames are another name of some fields on the command line.
var flagNames = map[string]string{
	"callSeconds": "call-time", "resultKiB": "result-limit", "messageMiB": "message-limit", "startSeconds": "start-time", "memoryMiB": "memory", "headers": "header",
	"places": "also", "privateRanges": "private-range", "toolLimits": "tool-limit", "operations": "operation", "signIn.grant": "sign-in", "signIn.clientId": "client-id",
	"signIn.clientSecret": "client-secret", "days": "life", "fullName": "full-name",
}

var capital = regexp.MustCompile(`[A-Z]`)

// flagOf is the flag in which a field of a request is given.
func flagOf(field string) string {
	if name := flagNames[field]; name != "" {
		return name
	}
	return capital.ReplaceAllStringFunc(field, func(c string) string { return "-" + strings.ToLower(c) })
}

// inFlags says what is wrong with a request in the words of the command line: a field
// that a flag gives is called by the flag.
func inFlags(err error, fs *flag.FlagSet) error {
	var p *client.ProblemError
	if !errors.As(err, &p) || p.Field == "" || !strings.HasPrefix(p.Title, p.Field+" ") {
		return err
	}
	name := flagOf(p.Field)
	if fs.Lookup(name) == nil {
		return err
	}
	problem := p.Problem
	problem.Title = "--" + name + strings.TrimPrefix(p.Title, p.Field)
	return &client.ProblemError{Problem: problem}
}

var undefined = regexp.MustCompile(`^flag provided but not defined: -+(\S+)$`)

// wrongFlag says what is wrong with a flag, and which was probably meant.
func (c command) wrongFlag(err error, fs *flag.FlagSet) error {
	hint := "bouncer " + c.name() + " -h shows the flags"
	m := undefined.FindStringSubmatch(err.Error())
	if m == nil {
		return &usageError{strings.ReplaceAll(err.Error(), "flag -", "flag --"), hint}
	}
	var names []string
	fs.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
	return &usageError{fmt.Sprintf("%s has no flag --%s", c.name(), m[1]), meant("--", m[1], names) + hint}
}
