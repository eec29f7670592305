package replication

import (
	"bytes"
	"encoding/json"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/pack"
)

func entry() Entry {
	return Entry{
		Version: Version, ID: "01K0000000000000000000000A", Node: "north", At: time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC), Schema: 22,
		What: "server.register", Topics: []string{"servers"}, Statements: []Statement{{
			Query: "INSERT INTO servers VALUES (?, ?, ?, ?, ?, ?)", Rows: 1,
			Args: []Value{{"s:tides"}, {int64(math.MinInt64)}, {0.1}, {nil}, {[]byte{0, 255}}, {""}},
		}},
	}
}

func TestEntriesComeBackAsTheyWere(t *testing.T) {
	t.Parallel()
	raw, err := Encode(entry())
	require.NoError(t, err)
	back, err := Decode(raw)
	require.NoError(t, err)
	assert.Equal(t, entry(), back)

	e := entry()
	e.Statements[0].Args[0].V = true
	_, err = Encode(e)
	assert.ErrorContains(t, err, "a bool is no value")
}

func TestWhatIsNoEntryIsRefused(t *testing.T) {
	t.Parallel()
	pack := func(text string) []byte { return pack.Pack([]byte(text)) }
	for text, why := range map[string]string{
		`nonsense`:               "it has no version",
		`{"version":0}`:          "it has no version",
		`{"version":1}`:          "who wrote it",
		`{"version":1,"id":"a"}`: "who wrote it",
		`{"version":1,"id":"a","node":"b","statements":[{"args":["x"]}]}`:                    "no kind",
		`{"version":1,"id":"a","node":"b","statements":[{"args":["x:1"]}]}`:                  "of the kind 'x'",
		`{"version":1,"id":"a","node":"b","statements":[{"args":["i:one"]}]}`:                "of the kind 'i'",
		`{"version":1,"id":"a","node":"b","statements":[{"args":["b:*"]}]}`:                  "of the kind 'b'",
		`{"version":1,"id":"a","node":"b","statements":[{"args":[7]}]}`:                      "read a value",
		`{"version":1,"id":"a","node":"b","statements":[` + many(MaxStatements, `{}`) + `]}`: "and may have",
	} {
		_, err := Decode(pack(text))
		require.ErrorIs(t, err, ErrMalformed, text[:min(80, len(text))])
		assert.ErrorContains(t, err, why)
	}
	_, err := Decode([]byte("not compressed"))
	assert.ErrorIs(t, err, ErrMalformed)

	// What a later version holds need not even be readable.
	_, err = Decode(pack(`{"version":2,"id":{"at":1}}`))
	var newer *NewerError
	require.ErrorAs(t, err, &newer)
	assert.Equal(t, NewerError{2, Version}, *newer)
}

// many is one more than n of a text, with commas between.
func many(n int, text string) string {
	return string(bytes.Repeat([]byte(text+","), n)) + text
}

func TestTablesThatDifferAreNamed(t *testing.T) {
	t.Parallel()
	a := map[string]string{"servers": "1", "people": "2", "rules": "3"}
	assert.Empty(t, Differ(a, a))
	names := Differ(a, map[string]string{"servers": "1", "people": "9", "labels": ""})
	slices.Sort(names)
	assert.Equal(t, []string{"labels", "people", "rules"}, names)
}

func FuzzEntries(f *testing.F) {
	raw, _ := Encode(entry())
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		e, err := Decode(raw)
		if err != nil {
			return
		}
		again, err := Encode(e)
		require.NoError(t, err)
		back, err := Decode(again)
		require.NoError(t, err)
		a, _ := json.Marshal(e)
		b, _ := json.Marshal(back)
		assert.JSONEq(t, string(a), string(b))
	})
}
