package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"

	"bouncer/internal/assistants/enrol"
)

// enrolmentOf is what was done to a file.
func (t atHome) enrolmentOf(path, entry string) (enrol.Enrolment, error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		real = path
	}
	if abs, err := filepath.Abs(real); err == nil {
		if e, ok, err := t.book().Of(abs, entry); ok || err != nil {
			return e, err
		}
	}
	e, ok, err := t.book().Of(real, entry)
	if err == nil && !ok {
		err = &failure{exitNotFound, path + " was not enrolled by this command on this machine", "bouncer enrol --check lists what was"}
	}
	return e, err
}

// runUndo puts a file back, and revokes the pass.
func (o *enrolment) runUndo(ctx context.Context, t atHome) error {
	e, err := t.enrolmentOf(o.config, o.entry)
	if err != nil {
		return err
	}
	if len(e.Adopted) > 0 && !o.adopted {
		return &failure{
			exitFailure, "entries of " + o.config + " were taken over, and servers, secrets and rules made for them",
			"take it all back: bouncer adopt --undo --config " + o.config,
		}
	}
	file, err := enrol.Read(e.Path)
	if err != nil {
		return told2(o.config, err)
	}
	shown := e.Shown(file.Raw)
	back, err := e.Undone(file.Raw)
	if err != nil {
		return &failure{exitFailure, fmt.Sprintf("%s cannot be put back: %v", o.config, err), "the copy from before is " + e.Backup}
	}
	if err := t.showDiff(o.config, file.Raw, back, append(secretsOf(file.Raw, e), secretsOf(back, e)...)); err != nil {
		return err
	}
	if o.dryRun {
		return t.done("dry run: nothing was written, no pass was revoked")
	}
	if err := t.confirm(o.yes); err != nil {
		return err
	}
	if err := e.Restore(file, back); err != nil {
		return told2(o.config, err)
	}
	if err := t.endPass(ctx, e, shown); err != nil {
		return err
	}
	if err := e.Tidy(back); err != nil {
		return err
	}
	if err := t.book().Remove(e.Path, e.Entry); err != nil {
		return err
	}
	return t.done("%s is as it was; %s is still an agent (bouncer agent remove %s)", o.config, e.Agent, e.Agent)
}

// endPass revokes the pass of an enrolment. One that is gone already is as well.
func (t atHome) endPass(ctx context.Context, e enrol.Enrolment, shown string) error {
	if e.PassFile != "" {
		if err := os.Remove(e.PassFile); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("remove the pass: %w", err)
		}
	}
	for _, id := range append(e.Earlier, e.PassID) {
		if id == "" {
			continue
		}
		err := t.client.Delete(ctx, "/api/agents/"+seg(e.Agent)+"/passes/"+seg(id))
		said := told(err)
		if said != nil && said.Status == http.StatusUnauthorized && id == e.PassID && shown != "" {
			err = giveBack(ctx, t.client, shown) // enrolled by a code, where nobody is signed in
			said = told(err)
		}
		if err != nil && (said == nil || said.Status != http.StatusNotFound) {
			return err
		}
	}
	return nil
}
