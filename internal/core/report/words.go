package report

import (
	"strings"
	"time"
)

// Quoted is a command or an argument as a shell takes it.
func Quoted(s string) string {
	if s != "" && strings.IndexFunc(s, func(r rune) bool { return !strings.ContainsRune(plainInShell, r) }) < 0 {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

const plainInShell = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:=@%+,"

// Took writes how long something took.
func Took(d time.Duration) string {
	if d.Milliseconds() < 10 {
		return d.Round(100 * time.Microsecond).String()
	}
	return d.Round(time.Millisecond).String()
}

// Date writes a moment.
func Date(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") }
