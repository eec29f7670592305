package team

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func TestStatesOfAPass(t *testing.T) {
	t.Parallel()
	p := Pass{Expires: noon}
	assert.Equal(t, "valid", p.StateAt(noon.Add(-1)))
	assert.Equal(t, "expired", p.StateAt(noon), "the end is not part of it")
	p.Revoked = &noon
	assert.Equal(t, "revoked", p.StateAt(noon.Add(-1)))
}

func TestASecretThatEndsIsWarnedAboutInTime(t *testing.T) {
	t.Parallel()
	assert.Empty(t, Secret{}.WarningAt(noon))
	for before, want := range map[time.Duration]string{
		-time.Second:                  "it ended on 2026-11-26",
		47 * time.Hour:                "it ends in 47 hours",
		48 * time.Hour:                "it ends in 2 days",
		14*24*time.Hour - time.Second: "it ends in 13 days",
		14 * 24 * time.Hour:           "",
	} {
		got := Secret{Ends: &noon}.WarningAt(noon.Add(-before))
		if want == "" {
			assert.Empty(t, got, before)
			continue
		}
		assert.True(t, strings.HasPrefix(got, want), "%s before: %q", before, got)
	}
}

func TestNames(t *testing.T) {
	t.Parallel()
	for _, good := range []string{"a", "7", "night-watch", strings.Repeat("a", 32)} {
		assert.NoError(t, CheckName("name", good), good)
	}
	for _, bad := range []string{"", "-a", "a-", "Night", "night_watch", "näht", "a b", "a\n", strings.Repeat("a", 33)} {
		var field *FieldError
		require.ErrorAs(t, CheckName("agent", bad), &field, bad)
		assert.Equal(t, "agent", field.Field)
	}
}

func TestHoldersAreToldApart(t *testing.T) {
	t.Parallel()
	for _, h := range []Holder{{}, {Person: "01a"}, {Agent: "01a"}} {
		assert.Equal(t, h, ReadHolder(h.Key()))
	}
	person, agent := Holder{Agent: "01a"}.Args()
	assert.Nil(t, person)
	assert.Equal(t, "01a", agent)
	person, agent = Holder{Person: "01a"}.Args()
	assert.Equal(t, "01a", person)
	assert.Nil(t, agent)
}

func TestOnlySomeGrantsAreBouncersOwn(t *testing.T) {
	t.Parallel()
	assert.False(t, OfBouncer(nil))
	for grant, own := range map[string]bool{GrantCode: false, GrantClient: true, GrantWorkload: true, GrantAssertion: false} {
		assert.Equal(t, own, OfBouncer(&SignInWay{Grant: grant}), grant)
	}
}

func TestStatesOfAMachineCode(t *testing.T) {
	t.Parallel()
	c := MachineCode{Expires: noon}
	assert.Equal(t, CodeOpen, c.StateAt(noon.Add(-1)))
	assert.Equal(t, CodeEnded, c.StateAt(noon))
	c.Used = &noon
	assert.Equal(t, CodeUsed, c.StateAt(noon.Add(1)))
}

func TestContextWindows(t *testing.T) {
	t.Parallel()
	for tokens, good := range map[int]bool{-1: false, 0: true, 200_000: true, 100_000_000: true, 100_000_001: false} {
		assert.Equal(t, good, CheckContextTokens(tokens) == nil, tokens)
	}
}

func TestWhoseASecretIs(t *testing.T) {
	t.Parallel()
	for owner, agent := range map[string]string{"": "", "marit": "", "x": "y"} {
		assert.Equal(t, owner != "", Secret{Owner: owner, Agent: agent}.Own())
	}
	assert.True(t, Secret{Agent: "quay-voice"}.Own())
}

func TestHowLongATryHasToWait(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "too many failed tries; wait 1s", (&ThrottledError{For: time.Millisecond}).Error())
	assert.Equal(t, "too many codes; wait 1m0s", (&ThrottledError{time.Minute, "too many codes"}).Error())
}
