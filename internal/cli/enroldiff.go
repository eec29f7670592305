package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/looks"
)

// showPlan shows what is to be written, without the secrets of the file.
func (t atHome) showPlan(p plan) error {
	preview, err := p.written(p.entry)
	if err != nil {
		return err
	}
	if err := t.showDiff(p.file.Path, p.file.Raw, preview, secretsIn(p.choice.File.Root)); err != nil {
		return err
	}
	if root := enrol.InWorkTree(p.file.Real); root != "" && p.as == enrol.AsPass && p.entry.Headers != nil &&
		strings.Contains(p.entry.Headers[0].Value, passPlaceholder) {
		fmt.Fprintf(t.Err, "%s lies in the git work tree %s: a pass in it would be committed. Keep it out with --as bridge or "+
			"--pass-variable NAME, or have git ignore the file\n", p.file.Path, root)
	}
	return nil
}

// showDiff shows how a file changes.
func (t atHome) showDiff(path string, before, after []byte, secrets []string) error {
	diff := difflib.UnifiedDiff{
		A:        difflib.SplitLines(without(string(before), secrets)),
		B:        difflib.SplitLines(without(string(after), secrets)),
		FromFile: path,
		ToFile:   path + " (new)",
		Context:  3,
	}
	return difflib.WriteUnifiedDiff(t.Err, diff)
}

// without is a text without secrets.
func without(text string, secrets []string) string {
	for _, s := range secrets {
		text = strings.ReplaceAll(text, s, "(secret)")
	}
	return text
}

// secretsIn are the values of a file that look like secrets, by their name or by
// themselves, with what follows a scheme word.
func secretsIn(n *configfile.Node) (out []string) {
	var walk func(name string, n *configfile.Node)
	walk = func(name string, n *configfile.Node) {
		for _, p := range n.Pairs {
			walk(p.Key, p.Value)
		}
		before := name
		for _, item := range n.Items {
			walk(before, item)
			before, _ = item.Text()
			before = strings.TrimLeft(before, "-")
		}
		text, ok := n.Text()
		if !ok {
			return
		}
		bare := text
		if scheme, rest, found := strings.Cut(text, " "); found && len(scheme) < 12 && !strings.Contains(rest, " ") {
			bare = rest
		}
		if own, value, found := strings.Cut(bare, "="); found && looks.Secret(strings.TrimLeft(own, "-"), value) != "" {
			out = append(out, value)
		}
		if looks.Secret(name, bare) != "" {
			out = append(out, bare)
		}
	}
	walk("", n)
	return out
}

func shortSum(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:4])
}

// writeSecretFile writes a file that only its owner can read.
func writeSecretFile(path, text string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keep the pass: %w", err)
	}
	fresh := path + ".new"
	if err := os.WriteFile(fresh, []byte(text+"\n"), 0o600); err != nil {
		return fmt.Errorf("keep the pass: %w", err)
	}
	if err := os.Rename(fresh, path); err != nil {
		return fmt.Errorf("keep the pass: %w", err)
	}
	return nil
}

// reparsed reads what was written.
func reparsed(raw []byte, d dialect.Dialect) (*configfile.File, error) {
	return configfile.Parse(raw, d.Syntax)
}
