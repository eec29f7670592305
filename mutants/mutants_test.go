package main

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const small = `package small

import "time"

const limit = 2 * 3

func Above(n int) bool { return n > limit }

func Wait(n int) time.Duration { return time.Duration(n) * time.Second }

func Kind(s string) int {
	switch {
	case s == "x", len(s) >= 2 && s[0] != 'y':
		return -1
	}
	return [limit]int{}[0]
}

func Never(n int) int {
	n++
	return n / 2
}

func Down(n int) (steps int) {
	for ; n > 0; n-- {
		steps++
	}
	return steps
}
`

const smallTest = `package small

import (
	"testing"
	"time"
)

func TestSome(t *testing.T) {
	if !Above(7) || Above(5) || Wait(2) != 2*time.Second || Kind("x") != -1 || Kind("ab") != -1 || Kind("y") != 0 || Down(3) != 3 {
		t.Fatal("wrong")
	}
}
`

// What no test would miss is told with its line, and nothing else; what is a constant stays one.
func TestWhatLivesIsTold(t *testing.T) {
	t.Chdir(t.TempDir())
	for name, text := range map[string]string{"go.mod": "module small\n\ngo 1.25\n", "small.go": small, "small_test.go": smallTest} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	var out strings.Builder
	share, err := examine(t.Context(), &out, ".", 2)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	assert.Equal(t, []string{
		`small.go:7: no test fails: the edge of >: func Above(n int) bool { return n > limit }`,
		`small.go:20: no test gets there: another way than ++: n++`,
		`small.go:21: no test gets there: another sum than /: return n / 2`,
	}, lines[:len(lines)-1], out.String())
	assert.Contains(t, lines[len(lines)-1], "small: 78.6 % of 14 mutants killed, in ")
	assert.InDelta(t, 100*11.0/14, share, 0.01)

	require.NoError(t, os.WriteFile("small_test.go", []byte(strings.Replace(smallTest, "Down(3) != 3", "true", 1)), 0o600))
	_, err = examine(t.Context(), &out, ".", 1)
	assert.ErrorContains(t, err, "the tests of small fail as they are")
	_, err = examine(t.Context(), &out, "./nothing", 1)
	assert.ErrorContains(t, err, "list the package")
}
