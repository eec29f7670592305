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
