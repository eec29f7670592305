package segment_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
)

func records() []segment.Record {
	return []segment.Record{
		{Key: 7 << 16, Seal: 41, Call: team.Call{
			Agent: "marit-quill", Person: "marit", Server: "sailings", Tool: "find_sailings", Decision: "admit", Rule: "R1", Outcome: "ok", Micros: 1234,
			BytesIn: 20, BytesOut: 1 << 20, Session: "s1", Arguments: `{"to":"Holm Voe"}`, Result: "two sailings", Times: 1,
		}},
		{Key: 7<<16 + 1, Seal: 40, Call: team.Call{
			Agent: "night-watch", Server: "berths", Tool: "assign_berth", Decision: "refuse", Rule: "R2", Outcome: "refused", Error: "Refused by rule NIGHTS",
			Cut: true, Times: 9, Control: &team.CallControl{Held: "nights", By: "teo", WaitedMS: 70},
		}},
		{Key: 9 << 32, Seal: 43, Call: team.Call{Agent: "night-watch", Server: "berths", Tool: "assign_berth", Rule: "R2", Outcome: "ok", Times: 1}},
	}
}

// What is written is read again, closed or not, and a closed block says which letters and
// names are in it.
func TestBlocksHoldWhatWasWritten(t *testing.T) {
	t.Parallel()
	for _, closed := range []bool{false, true} {
		want := records()
		s := segment.Write(want, closed)
		assert.Equal(t, []any{segment.Key(7 << 16), segment.Key(9 << 32), 3, int64(40), int64(43)}, []any{s.First, s.Last, s.Records, s.Low, s.High})
		assert.Equal(t, closed, s.Facts != nil)
		assert.Equal(t, closed, s.Words != nil)
		got, err := segment.ReadHead(s.Head, s.Low)
		require.NoError(t, err)
		assert.Empty(t, got[0].Arguments, "the head has no texts")
		require.NoError(t, segment.ReadBody(s.Body, got))
		for i := range want {
			want[i].At = want[i].Key.Time()
		}
		assert.Equal(t, want, got)
		moved, err := segment.ReadHead(s.Head, 140)
		require.NoError(t, err)
		assert.EqualValues(t, 141, moved[0].Seal, "seals are counted from the lowest")

		head, facts, err := segment.WithTimes(s.Head, closed, map[segment.Key]int{7<<16 + 1: 12})
		require.NoError(t, err)
		assert.Equal(t, closed, facts != nil)
		got, err = segment.ReadHead(head, s.Low)
		require.NoError(t, err)
		assert.Equal(t, []int{1, 12, 1}, []int{got[0].Times, got[1].Times, got[2].Times})
		assert.EqualValues(t, 43, got[2].Seal)
		decided := map[string]int{"R1": 5}
		assert.Equal(t, closed, segment.ReadFacts(facts).Decided(decided))
		if closed {
			assert.Equal(t, map[string]int{"R1": 6, "R2": 13}, decided)
		}
	}
	large := []segment.Record{}
	for i := range 500 {
		large = append(large, segment.Record{Key: segment.Key(i + 1), Call: team.Call{Arguments: fmt.Sprint(`{"berth":`, i, `}`)}})
	}
	assert.Equal(t, 500*len(`{"berth":}`)+10+180+1200, segment.Size(large))
	s := segment.Write(large, true)
	assert.Less(t, len(s.Body), segment.Size(large)/2, "what is closed is compressed")
	assert.Less(t, len(s.Head), 2_500)
	got, err := segment.ReadHead(s.Head, 0)
	require.NoError(t, err)
	assert.Equal(t, 1, got[0].Times, "a call that says nothing of it happened once")
}

// Records are put into the order of their keys, without touching what was given.
func TestSorted(t *testing.T) {
	t.Parallel()
	given := []segment.Record{{Key: 3}, {Key: 1}, {Key: 1 << 60}, {Key: 2}}
	assert.Equal(t, []segment.Record{{Key: 1}, {Key: 2}, {Key: 3}, {Key: 1 << 60}}, segment.Sorted(given))
	assert.EqualValues(t, 3, given[0].Key)
}

// Whatever was done to a block: it is said to be damaged, and reading it ends.
func TestDamagedBlocksAreTold(t *testing.T) {
	t.Parallel()
	for _, closed := range []bool{false, true} {
		s := segment.Write(records(), closed)
		for name, bad := range map[string][]byte{
			"nothing": nil, "no such form": append([]byte{7}, s.Head[1:]...), "cut": s.Head[:len(s.Head)-1], "more": append(append([]byte{}, s.Head...), 0),
			"only its form": s.Head[:1], "no records": {0, 0, 0}, "many records": {0, 0xff, 0xff, 0xff, 0xff, 0x7f, 0}, "a text that is not there": {0, 1, 0, 1, 0, 5},
			"control that is none": {0, 1, 1, 1, 'x', 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2},
		} {
			_, err := segment.ReadHead(bad, 0)
			assert.ErrorIs(t, err, segment.ErrDamaged, name)
			_, _, err = segment.WithTimes(bad, closed, nil)
			assert.ErrorIs(t, err, segment.ErrDamaged, name)
		}
		list, err := segment.ReadHead(s.Head, s.Low)
		require.NoError(t, err)
		for name, bad := range map[string][]byte{
			"nothing": nil, "cut": s.Body[:len(s.Body)-1], "more": append(append([]byte{}, s.Body...), 1), "too long a text": {0, 99, 'a'},
		} {
			assert.ErrorIs(t, segment.ReadBody(bad, list), segment.ErrDamaged, name)
		}
	}
}

func FuzzReadHead(f *testing.F) {
	for _, closed := range []bool{false, true} {
		f.Add(segment.Write(records(), closed).Head)
	}
	f.Fuzz(func(t *testing.T, head []byte) {
		list, err := segment.ReadHead(head, 1)
		if err != nil {
			return
		}
		again, err := segment.ReadHead(segment.Write(segment.Sorted(list), false).Head, 0)
		if err == nil && len(again) != len(list) {
			t.Fatal("records were lost")
		}
	})
}

// A block is passed over only where nothing in it can be selected.
func TestSummariesPassOverBlocks(t *testing.T) {
	t.Parallel()
	s := segment.Write(records(), true)
	facts := segment.ReadFacts(s.Facts)
	for name, row := range map[string]struct {
		f     segment.Filter
		skips bool
	}{
		"everything": {segment.Filter{}, false}, "an agent": {segment.Filter{Agent: "night-watch"}, false}, "another": {segment.Filter{Agent: "voice"}, true},
		"a person": {segment.Filter{Person: "marit"}, false}, "no such person": {segment.Filter{Person: "joss"}, true},
		"an owner": {segment.Filter{Owner: "marit"}, false}, "no such owner": {segment.Filter{Owner: "joss"}, true},
		"a server": {segment.Filter{Server: "berths"}, false}, "no such server": {segment.Filter{Server: "pumps"}, true},
		"a tool": {segment.Filter{Tool: "assign_berth"}, false}, "no such tool": {segment.Filter{Tool: "assign"}, true},
		"a glob": {segment.Filter{Tool: "*pump*"}, false}, "a glob of one": {segment.Filter{Tool: "pump?"}, false},
		"an outcome": {segment.Filter{Outcome: "refused"}, false}, "no such outcome": {segment.Filter{Outcome: "timeout"}, true},
		"a rule": {segment.Filter{Rules: []string{"x", "R2"}}, false}, "no such rule": {segment.Filter{Rules: []string{"R3"}}, true},
		"held": {segment.Filter{Decision: segment.Held}, false}, "a decision": {segment.Filter{Decision: "admit"}, false},
	} {
		assert.Equal(t, row.skips, row.f.Skips(facts), name)
		assert.Equal(t, !slices.Contains([]string{"everything", "a glob", "a glob of one", "a decision"}, name), row.f.Named(), name)
		assert.False(t, row.f.Skips(segment.ReadFacts(nil)), name)
		assert.False(t, row.f.Skips(segment.ReadFacts(s.Facts[:3])), name+", of a summary that is cut")
	}
	none := segment.ReadFacts(segment.Write(records()[:1], true).Facts)
	held := segment.Filter{Decision: segment.Held}
	assert.True(t, held.Skips(none))
	many := []segment.Record{}
	for i := range 300 {
		many = append(many, segment.Record{Key: segment.Key(i), Call: team.Call{Agent: "voice", Tool: fmt.Sprint("tool-", i)}})
	}
	tool, agent := segment.Filter{Tool: "nothing"}, segment.Filter{Agent: "quill"}
	facts = segment.ReadFacts(segment.Write(many, true).Facts)
	assert.False(t, tool.Skips(facts), "of too many names nothing is said")
	assert.True(t, agent.Skips(facts), "and of the others it is")

	for text, may := range map[string]bool{
		"holm voe": true, "HOLM": true, "two": true, "by rule nights": true, "assign_berth": true, "ho": true, "": true,
		"skerrow": false, "lighthouse": false, "holm vox": false,
	} {
		letters := segment.LettersOf(text)
		var ruled, unread segment.Ruled
		for _, part := range letters.Parts() {
			ruled.Read(letters, part, s.LetterPart(part))
			unread.Read(letters, part, nil)
			unread.Read(letters, part, []byte("x"))
		}
		assert.Equal(t, may, !ruled.Out(), text)
		assert.False(t, unread.Out(), "nothing is passed over by a summary that is damaged")
	}
}

// matches is what a filter says of one call by all but its texts.
func matches(f *segment.Filter, r *segment.Record) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	tool := f.Tool == "" || f.Tool == "*" || f.Tool == r.Tool || strings.Contains(f.Tool, "?") && strings.HasPrefix(r.Tool, "tool-2") &&
		strings.HasSuffix(r.Tool, "5") && len(r.Tool) == len(f.Tool)
	decision := is(f.Decision, r.Decision)
	if f.Decision == segment.Held {
		decision = r.Control != nil && r.Control.Held != ""
	}
	from, to := f.Range()
	return is(f.Agent, r.Agent) && is(f.Person, r.Person) && is(f.Owner, r.Person) && is(f.Server, r.Server) && is(f.Outcome, r.Outcome) &&
		tool && decision && (f.Rules == nil || slices.Contains(f.Rules, r.Rule)) && r.Key >= from && r.Key <= to
}

// selected are the keys of the calls of a block that a filter selects, with its text.
func selected(t *testing.T, s segment.Segment, f *segment.Filter) (keys []segment.Key) {
	t.Helper()
	head, err := segment.OpenHead(s.Head, s.Low)
	require.NoError(t, err)
	places, err := head.Choose(f)
	require.NoError(t, err)
	if f.Text != "" {
		body, err := segment.OpenBody(s.Body)
		require.NoError(t, err)
		places, err = segment.NewFinder(f.Text).Among(head, body, places)
		require.NoError(t, err)
	}
	records, err := head.Records(places)
	require.NoError(t, err)
	for _, r := range records {
		keys = append(keys, r.Key)
	}
	return keys
}

// Each condition of a filter holds by itself.
func TestFilters(t *testing.T) {
	t.Parallel()
	both := records()[:2]
	first, second := both[0].Key, both[1].Key
	s := segment.Write(both, true)
	for name, row := range map[string]struct {
		f             segment.Filter
		first, second bool
	}{
		"nothing": {segment.Filter{}, true, true}, "agent": {segment.Filter{Agent: "marit-quill"}, true, false},
		"person": {segment.Filter{Person: "marit"}, true, false}, "owner": {segment.Filter{Owner: "marit"}, true, false},
		"server": {segment.Filter{Server: "berths"}, false, true}, "tool": {segment.Filter{Tool: "find_*"}, true, false},
		"all tools": {segment.Filter{Tool: "*"}, true, true}, "outcome": {segment.Filter{Outcome: "refused"}, false, true},
		"decision": {segment.Filter{Decision: "admit"}, true, false}, "held": {segment.Filter{Decision: segment.Held}, false, true},
		"rules": {segment.Filter{Rules: []string{"R2", "R3"}}, false, true}, "no rule": {segment.Filter{Rules: []string{}}, false, false},
		"somebody else's": {segment.Filter{Person: "marit", Owner: "joss"}, false, false}, "their own": {segment.Filter{Person: "marit", Owner: "marit"}, true, false},
	} {
		keys := selected(t, s, &row.f)
		assert.Equal(t, row.first, slices.Contains(keys, first), name)
		assert.Equal(t, row.second, slices.Contains(keys, second), name)
		assert.Equal(t, row.first && row.second && name != "no rule", row.f.All(), name)
	}
	text := segment.Filter{Text: "x"}
	assert.False(t, text.All())
	budgeted := both[1]
	budgeted.Control = &team.CallControl{Budget: "day"}
	held := segment.Filter{Decision: segment.Held}
	other := segment.Write([]segment.Record{budgeted}, true)
	assert.Empty(t, selected(t, other, &held), "not everything that rules did is holding")
	assert.True(t, held.Skips(segment.ReadFacts(other.Facts)))

	for part, in := range map[string]int{"holm": 1, "VOE": 1, "two sail": 1, "FIND_": 1, "nights": 2, "e": 3, "lighthouse": 0, strings.Repeat("x", 999): 0} {
		keys := selected(t, s, &segment.Filter{Text: part})
		assert.Equal(t, in&1 != 0, slices.Contains(keys, first), part)
		assert.Equal(t, in&2 != 0, slices.Contains(keys, second), part)
		assert.Empty(t, selected(t, s, &segment.Filter{Text: part, Agent: "voice"}), part)
	}
}

// The ends of a range are exact.
func TestRange(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	key := segment.KeyAt(at)
	for name, row := range map[string]struct {
		f        segment.Filter
		from, to segment.Key
	}{
		"all": {segment.Filter{}, 0, segment.LastKey}, "since": {segment.Filter{Since: at}, key, segment.LastKey},
		"until": {segment.Filter{Until: at}, 0, key - 1}, "before": {segment.Filter{Before: key}, 0, key - 1},
		"after":         {segment.Filter{After: key}, key + 1, segment.LastKey},
		"the narrowest": {segment.Filter{Since: at, After: key + 5, Until: at.Add(time.Second), Before: key + 9}, key + 6, key + 8},
		"and else":      {segment.Filter{Since: at.Add(time.Second), After: key, Until: at, Before: key + 9}, segment.KeyAt(at.Add(time.Second)), key - 1},
	} {
		from, to := row.f.Range()
		assert.Equal(t, []segment.Key{row.from, row.to}, []segment.Key{from, to}, name)
	}
}

// Keys are ULIDs in the order of time.
func TestKeysAreULIDsInTheOrderOfTime(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 8, 30, 0, 5e6, time.UTC)
	k := segment.KeyAt(at) + 7
	id := k.ULID()
	assert.Equal(t, "01M83RDET5003K4VCJ7HV7PF1Z", id)
	back, err := segment.ParseKey(strings.ToLower(id))
	require.NoError(t, err)
	assert.Equal(t, k, back)
	assert.Equal(t, at, k.Time())
	assert.Less(t, id, (k + 1).ULID())
	for _, bad := range []string{"", "x", id[:25] + "!", team.NewID(), segment.Key(-5).ULID()} {
		_, err := segment.ParseKey(bad)
		assert.ErrorIs(t, err, segment.ErrKey, bad)
	}
}

// What a filter selects of a block is what it matches among all of its records, also where columns have
// more texts than a byte can number, and its texts are read from where they stand.
func TestSelection(t *testing.T) {
	t.Parallel()
	var many []segment.Record
	for i := range 700 {
		r := records()[i%3]
		r.Key, r.Tool = segment.Key(1000+10*i), fmt.Sprint("tool-", i)
		r.Arguments, r.Result, r.Micros, r.BytesIn = fmt.Sprint("arguments ", i), fmt.Sprint("result ", i), int64(i), 2*i
		many = append(many, r)
	}
	for _, closed := range []bool{false, true} {
		s := segment.Write(many, closed)
		head, err := segment.OpenHead(s.Head, s.Low)
		require.NoError(t, err)
		for name, f := range map[string]segment.Filter{
			"all": {}, "a tool": {Tool: "tool-300"}, "tools": {Tool: "tool-2?5"}, "no tool": {Tool: "pump"}, "an agent": {Agent: "night-watch"}, "no agent": {Agent: "voice"},
			"a person": {Person: "marit"}, "an owner": {Owner: "marit"}, "a server": {Server: "sailings"}, "an outcome": {Outcome: "refused"},
			"a decision": {Decision: "admit"}, "held": {Decision: segment.Held}, "rules": {Rules: []string{"R1"}}, "no rules": {Rules: []string{}},
			"both": {Agent: "night-watch", Outcome: "refused"}, "the first": {Before: 1001}, "up to the first": {Before: 1000},
			"the last": {After: 1000 + 10*699 - 1}, "after the last": {After: 1000 + 10*699}, "none of both": {Agent: "marit-quill", Server: "berths"},
		} {
			var want []string
			var keys []segment.Key
			for i := range many {
				if matches(&f, &many[i]) {
					want, keys = append(want, many[i].Tool+many[i].Arguments+many[i].Result), append(keys, many[i].Key)
				}
			}
			got, places, err := head.Select(&f)
			require.NoError(t, err, name)
			body, err := segment.OpenBody(s.Body)
			require.NoError(t, err)
			require.NoError(t, body.Add(got, places), name)
			var have []string
			for i := range got {
				have = append(have, got[i].Tool+got[i].Arguments+got[i].Result)
				assert.Equal(t, []any{keys[i], 2 * got[i].Micros}, []any{got[i].Key, int64(got[i].BytesIn)}, name)
				assert.Equal(t, got[i].Outcome == "refused", got[i].Control != nil, name)
			}
			assert.Equal(t, want, have, name)
		}
		got, places, err := head.Select(&segment.Filter{Tool: "tool-699"})
		require.NoError(t, err)
		_, err = segment.OpenBody(nil)
		assert.ErrorIs(t, err, segment.ErrDamaged)
		for name, bad := range map[string][]byte{"no texts": {0}, "too long a text": {0, 99, 'a'}, "a text that is looked for": {0, 1, 'x', 99}} {
			body, err := segment.OpenBody(bad)
			require.NoError(t, err)
			assert.ErrorIs(t, body.Add(got, places), segment.ErrDamaged, name)
			if strings.Contains(string(bad), "x") {
				_, err = segment.NewFinder("x").Among(head, body, places)
				assert.ErrorIs(t, err, segment.ErrDamaged, name)
			}
		}
	}
	// A byte is enough for as many texts as it has values.
	for n, more := range map[int]bool{256: false, 257: true} {
		one, other := segment.Write(many[:n], false), segment.Write(many[:n-1], false)
		assert.Equal(t, more, len(one.Head)-len(other.Head) > 100, n)
		got, err := segment.ReadHead(one.Head, one.Low)
		require.NoError(t, err)
		assert.Equal(t, many[n-1].Tool, got[n-1].Tool)
	}
	// Names are summed up as long as they are few.
	for n, says := range map[int]bool{200: true, 400: false} {
		tool := segment.Filter{Tool: "nothing"}
		assert.Equal(t, says, tool.Skips(segment.ReadFacts(segment.Write(many[:n], true).Facts)), n)
	}
}

// A text is found in whatever size its letters are, wherever it stands, and not across what
// stands beside each other.
func TestTextsAreFound(t *testing.T) {
	t.Parallel()
	var ascii []byte
	for c := byte(0); c < 128; c++ {
		ascii = append(ascii, c)
	}
	block := func(c team.Call) segment.Segment {
		return segment.Write([]segment.Record{{Key: 5, Call: c}, {Key: 9}}, true)
	}
	for name, row := range map[string]struct {
		call  team.Call
		text  string
		found bool
	}{
		"a whole tool": {team.Call{Tool: "TOOL-0"}, "tool-0", true}, "what is no letter": {team.Call{Tool: "@[`{"}, "@[`{", true},
		"the first and the last letter": {team.Call{Error: "AZ"}, "az", true}, "a quote that is no @": {team.Call{Tool: "@"}, "`", false},
		"a brace that is no bracket": {team.Call{Result: "["}, "{", false}, "all characters": {team.Call{Result: string(ascii)}, strings.ToLower(string(ascii)), true},
		"bytes beyond": {team.Call{Arguments: "Résumé ÉÁ"}, "résumé ÉÁ", true}, "across two texts": {team.Call{Arguments: "ab", Result: "cd"}, "bc", false},
		"across, with what is between": {team.Call{Arguments: "ab", Result: "cd"}, "b\x02c", false}, "in the tool, if also elsewhere": {team.Call{Tool: "pump", Result: "x"}, "PUMP", true},
	} {
		keys := selected(t, block(row.call), &segment.Filter{Text: row.text})
		assert.Equal(t, row.found, len(keys) == 1 && keys[0] == 5, name)
		assert.True(t, row.found || len(keys) == 0, name)
	}
	// Wherever in eight bytes a letter stands.
	for at := range 20 {
		text := strings.Repeat("-", at) + "Fog over the Sound"
		assert.Len(t, selected(t, block(team.Call{Result: text}), &segment.Filter{Text: "FOG OVER THE SOUND"}), 1, at)
	}
	short := segment.LettersOf("abc")
	assert.Empty(t, short.Parts(), "too short to be passed over by")
	assert.NotEmpty(t, segment.LettersOf("abcd").Parts())
	ordered := segment.LettersOf(strings.Repeat("a", 40) + " and the weathervane on the roof")
	assert.Equal(t, segment.LettersOf("aaaaaaaa").Parts()[0], ordered.Parts()[0], "what says most comes first")
	says := map[int]int{}
	empty := make([]byte, 1<<10)
	for _, part := range ordered.Parts() {
		var ruled segment.Ruled
		ruled.Read(ordered, part, empty)
		says[part]++
		assert.True(t, ruled.NotEven || ruled.NotOdd, "each part has a say")
	}
	assert.Len(t, says, len(ordered.Parts()), "and is read once")
}

// Blocks of which all columns were compressed together are read as ever.
func TestBlocksAsTheyWereWrittenBefore(t *testing.T) {
	t.Parallel()
	encoder, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	s := segment.Write(records(), false)
	want, err := segment.ReadHead(s.Head, s.Low)
	require.NoError(t, err)
	got, err := segment.ReadHead(encoder.EncodeAll(s.Head[1:], []byte{1}), s.Low)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	_, err = segment.ReadHead(append([]byte{1}, s.Head[1:]...), s.Low)
	assert.ErrorIs(t, err, segment.ErrDamaged)
}
