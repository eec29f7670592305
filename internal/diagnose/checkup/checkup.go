// Package checkup looks at one tool server: step by step on the way to it, with its own
// requests and its own process, so that what goes wrong is seen where it goes wrong. It
// collects evidence, tells look-alikes apart by further harmless probes (opening a
// conversation, listing, plain GET), and lets core/verdict judge. A tool is called only
// when that was asked for, and nothing stays behind. What is at an address is looked at by
// reach, a program by launch; exam is what both are given, and where they put what they
// see.
package checkup

import (
	"context"
	"fmt"
	"time"

	"bouncer/internal/core/report"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/checkup/exam"
	"bouncer/internal/diagnose/checkup/launch"
	"bouncer/internal/diagnose/checkup/reach"
)

// What a checkup is given; see exam.
type (
	Target  = exam.Target
	Client  = exam.Client
	Call    = exam.Call
	Options = exam.Options
)

// Describe makes a target of a registration that is not made. The error is a
// *team.FieldError.
func Describe(in serverspec.Registration) (Target, error) { return exam.Describe(in) }

// Run looks at a target. It returns what was found: an error only when ctx has ended, or
// when Bouncer itself could not look.
func Run(ctx context.Context, t Target, o Options) (report.Report, error) {
	r := exam.New(t, o)
	defer r.Small()
	began := time.Now()
	if t.Missing != "" {
		r.Evidence.Target.Missing = t.Missing
		r.Stage("settings", exam.Failed, 0, t.Missing)
		return r.Report(time.Since(began)), nil
	}
	look := reach.Look
	if t.Server.Transport == team.Stdio {
		look = launch.Look
	}
	err := look(ctx, r)
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return report.Report{}, fmt.Errorf("look at %s: %w", t.Named(), err)
	}
	return r.Report(time.Since(began)), nil
}
