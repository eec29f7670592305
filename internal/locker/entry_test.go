package locker

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
)

// What people paste is read as they meant it, and they are told what was noticed.
func TestEntryForgives(t *testing.T) {
	t.Parallel()
	for _, row := range []struct{ kind, in, want, noticed string }{
		{team.KindBearer, "skf-abc-123", "skf-abc-123", ""},
		{team.KindBearer, "  skf-abc-123\n", "skf-abc-123", "blanks"},
		{team.KindBearer, `"skf-abc-123"`, "skf-abc-123", "quotes"},
		{team.KindBearer, "`skf-abc-123`,", "skf-abc-123", "quotes"},
		{team.KindBearer, "Bearer skf-abc-123", "skf-abc-123", "word Bearer"},
		{team.KindBearer, "bearer Bearer skf-abc-123", "skf-abc-123", "word Bearer"},
		{team.KindBearer, "Authorization: Bearer skf-abc-123", "skf-abc-123", "name of the header"},
		{team.KindBearer, `export SAILINGS_TOKEN="skf-abc-123"`, "skf-abc-123", "SAILINGS_TOKEN="},
		{team.KindBearer, `$env:SAILINGS_TOKEN = 'Bearer skf-abc-123'`, "skf-abc-123", "SAILINGS_TOKEN="},
		{team.KindBearer, "\ufeffskf-abc-123", "skf-abc-123", ""},
		{team.KindBearer, "QUJDREVGR0g=", "QUJDREVGR0g=", ""},
		{team.KindValue, "X-Api-Key: skf-abc-123", "skf-abc-123", "name of the header"},
		{team.KindValue, "Token skf-abc-123", "Token skf-abc-123", ""},
		{team.KindBasic, "dispatch:pass word", "dispatch:pass word", ""},
		{team.KindBasic, "Basic ZGlzcGF0Y2g6aGFyYm91cg==", "dispatch:harbour", "encoded already"},
		{team.KindBearer, "abc~", "abc~", ""},
		{team.KindBearer, strings.Repeat("q", MaxToken), strings.Repeat("q", MaxToken), ""},
		{team.KindBearer, "''skf-abc-123''", "skf-abc-123", "quotes"},
		{team.KindValue, "bearer", "bearer", ""},
		{team.KindBasic, "basic :", "basic :", ""},
		{team.KindBearer, strings.Repeat("q", 37) + "...", strings.Repeat("q", 37) + "...", ""},
		{team.KindEnvironment, " kept as it is \n", " kept as it is ", "begins or ends with a blank"},
		{team.KindEnvironment, `BERTHS_KEY='skf-abc-123'`, "skf-abc-123", "BERTHS_KEY="},
		{team.KindClientSecret, `CLIENT_SECRET=skf-abc-123`, "skf-abc-123", "CLIENT_SECRET="},
	} {
		s, notes, err := Read(row.kind, row.in)
		require.NoError(t, err, row.in)
		assert.Equal(t, row.want, s.Reveal(), row.in)
		if row.noticed == "" {
			assert.Empty(t, notes, row.in)
		} else {
			assert.Contains(t, strings.Join(notes, "; "), row.noticed, row.in)
		}
		assert.NotContains(t, strings.Join(notes, "; "), "skf-abc-123", "notes never repeat the value")
	}
	for _, row := range []struct{ kind, in, why string }{
		{team.KindBearer, "", "empty"}, {team.KindBearer, `""`, "empty"}, {team.KindBearer, "Bearer ", "empty"},
		{team.KindBearer, "<your-token>", "placeholder"}, {team.KindBearer, "${SAILINGS_TOKEN}", "placeholder"}, {team.KindBearer, "YOUR_TOKEN_HERE", "placeholder"}, {team.KindBearer, "{{token}}", "placeholder"}, {team.KindBearer, "xxxxxxxx", "placeholder"}, {team.KindBearer, "changeme", "placeholder"}, {team.KindBearer, "$TOKEN", "placeholder"},
		{team.KindBearer, "skf-abc...", "cut short"}, {team.KindBearer, "skf-abc…", "cut short"},
		{team.KindBearer, strings.Repeat("q", 36) + "...", "cut short"}, {team.KindValue, "a\x7f", "header"}, {team.KindValue, "a\x1fb", "header"},
		{team.KindBearer, "two words", "blank"}, {team.KindBearer, "tøken-abc", "header"}, {team.KindBearer, strings.Repeat("x", MaxToken+1), "longer"},
		{team.KindBasic, "nobody", "user name, a colon"}, {team.KindBasic, ":password", "user name, a colon"},
		{team.KindEnvironment, "a\x00b", "zero byte"}, {team.KindPrivateKey, "skf-abc-123", "PEM"}, {team.KindPrivateKey, "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----", "PEM"}, {"other", "x", "no known kind"},
	} {
		_, _, err := Read(row.kind, row.in)
		require.Error(t, err, row.in)
		assert.Contains(t, err.Error(), row.why, row.in)
		if len(row.in) > 9 {
			assert.NotContains(t, err.Error(), row.in, "errors never repeat the value")
		}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	_, _, err = Read(team.KindPrivateKey, "  "+string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	assert.NoError(t, err)
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"Bearer x", `TOKEN="Bearer y"`, "Authorization: Basic eDp5", "''", "=", "A_B==", "\ufeff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, in string) {
		for _, kind := range team.SecretKinds {
			s, _, err := Read(kind, in)
			if err != nil {
				continue
			}
			v := s.Reveal()
			if kind != team.KindEnvironment && kind != team.KindPrivateKey && strings.ContainsAny(v, "\r\n\x00") {
				t.Fatalf("%s: %q could end a header", kind, v)
			}
			if kind == team.KindBearer {
				if again, _, err := Read(kind, v); err != nil || again.Reveal() != v {
					t.Fatalf("%q is read differently the second time: %q %v", in, again.Reveal(), err)
				}
			}
		}
	})
}

// A web token tells its issuer, audience, scopes and end.
func TestLook(t *testing.T) {
	t.Parallel()
	jwt := func(claims string) Secret {
		enc := base64.RawURLEncoding
		return NewSecret(enc.EncodeToString([]byte(`{"alg":"none"}`)) + "." + enc.EncodeToString([]byte(claims)) + ".c2ln")
	}
	f, ends := Look(
		jwt(`{"iss":"https://customs.skerrow.example","aud":["customs","other"],"scope":"read write","sub":"desk","exp":1795392000}`),
	)
	assert.Equal(t, "jwt https://customs.skerrow.example desk", f.Form+" "+f.Issuer+" "+f.Subject)
	assert.Equal(t, [][]string{{"customs", "other"}, {"read", "write"}}, [][]string{f.Audience, f.Scopes})
	assert.Equal(t, time.Unix(1795392000, 0).UTC(), ends)
	f, ends = Look(jwt(`{"aud":"one","scp":["a","b"]}`))
	assert.Equal(t, [][]string{{"one"}, {"a", "b"}}, [][]string{f.Audience, f.Scopes})
	assert.True(t, ends.IsZero())
	for exp, ends := range map[string]int64{"0": 0, "1": 1, "99999999999": 99999999999, "100000000000": 0} {
		_, at := Look(jwt(`{"exp":` + exp + `}`))
		assert.Equal(t, ends == 0, at.IsZero(), exp)
		if ends != 0 {
			assert.Equal(t, ends, at.Unix())
		}
	}
	for n, want := range map[int]int{200: 200, 201: 200} {
		f, _ := Look(jwt(`{"iss":"` + strings.Repeat("i", n) + `"}`))
		assert.Len(t, f.Issuer, want)
	}
	for _, s := range []string{"", "a.b", "a.b.c", "skf.not-a.token", "..", strings.Repeat("a.", 100)} {
		f, ends = Look(NewSecret(s))
		assert.Empty(t, f.Form, s)
		assert.True(t, ends.IsZero(), s)
	}
}

// Values can be read where they are kept; what cannot be read is said.
func TestOutside(t *testing.T) {
	t.Setenv("HARBOUR_KEY", "from the environment")
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(file, []byte("from a file\n"), 0o600))
	big := filepath.Join(t.TempDir(), "big")
	require.NoError(t, os.WriteFile(big, make([]byte, maxOutside+1), 0o600))
	for source, want := range map[string]string{"env HARBOUR_KEY": "from the environment", "file " + file: "from a file\n", "command printf 'from a %s' command": "from a command"} {
		require.NoError(t, CheckSource(source))
		s, err := Outside(t.Context(), source)
		require.NoError(t, err, source)
		assert.Equal(t, want, s.Reveal())
	}
	s, err := Outside(t.Context(), "command env")
	require.NoError(t, err)
	assert.NotContains(t, s.Reveal(), "HARBOUR_KEY", "a command gets nothing of the service's environment")
	for source, want := range map[string]string{
		"env NOT_THERE": "no variable", "file /not/there": "no such file", "file " + big: "larger than", "command exit 3": "failed", "command head -c 100000 /dev/zero": "more than", "elsewhere": "the source is none",
	} {
		_, err := Outside(t.Context(), source)
		require.Error(t, err, source)
		assert.Contains(t, err.Error(), want, source)
	}
	require.NoError(t, os.WriteFile(big, make([]byte, maxOutside), 0o600))
	for _, source := range []string{"file " + big, fmt.Sprintf("command head -c %d /dev/zero", maxOutside)} {
		s, err := Outside(t.Context(), source)
		require.NoError(t, err)
		assert.Len(t, s.Reveal(), maxOutside, "as much as may be")
	}
	_, err = Outside(t.Context(), fmt.Sprintf("command head -c %d /dev/zero; echo", maxOutside))
	assert.ErrorContains(t, err, "more than")
	assert.NoError(t, CheckSource("env "+strings.Repeat("A", 4092)))
	assert.Error(t, CheckSource("env "+strings.Repeat("A", 4093)))
	for _, bad := range []string{"", "env", "env ", "file relative", "http x", "command \x00"} {
		assert.Error(t, CheckSource(bad), bad)
	}
}

// A rotation wraps everything anew; the key before opens what was sealed before,
// until the next one.
func TestKeysAreRotated(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keys")
	k, err := LoadKeys(t.Context(), path, true)
	require.NoError(t, err)
	box, err := k.Seal("sailings", NewSecret("the-canary-value"))
	require.NoError(t, err)
	for range 2 {
		before := box
		id, err := k.Rotate(t.Context())
		require.NoError(t, err)
		assert.NotEqual(t, before.KeyID, id)
		_, err = k.Open(before)
		require.NoError(t, err, "nothing is lost in between")
		box.KeyID, box.DataKey, err = k.Rewrap("sailings", before.KeyID, before.DataKey)
		require.NoError(t, err)
		require.NoError(t, k.Retire())
		assert.Len(t, k.IDs(), 2)
		again, err := LoadKeys(t.Context(), path, false)
		require.NoError(t, err)
		for _, b := range []Box{before, box} {
			s, err := again.Open(b)
			require.NoError(t, err)
			assert.Equal(t, "the-canary-value", s.Reveal())
		}
	}
	_, _, err = k.Rewrap("sailings", "gone", box.DataKey)
	assert.ErrorIs(t, err, ErrKeyLost)
	_, _, err = k.Rewrap("berths", box.KeyID, box.DataKey)
	assert.Error(t, err, "a wrapped key is bound to its name")

	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	t.Setenv("LOCKER_KEYS", string(raw))
	for _, source := range []string{"env:LOCKER_KEYS", "command:cat " + path} {
		k, err := LoadKeys(t.Context(), source, true)
		require.NoError(t, err)
		s, err := k.Open(box)
		require.NoError(t, err)
		assert.Equal(t, "the-canary-value", s.Reveal())
		_, err = k.Rotate(t.Context())
		assert.ErrorContains(t, err, "no newer key", "somebody else keeps this key set")
	}
	_, err = LoadKeys(t.Context(), "env:NOT_THERE", true)
	assert.ErrorContains(t, err, "no variable", "no key is made up where somebody else keeps them")
}

// A key that nodes share is in force once somebody says so, and not because it was added.
func TestNodesShareTheirKeys(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "keys")
	first, err := LoadKeys(t.Context(), path, true)
	require.NoError(t, err)
	begun := first.IDs()[0]
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	set := func(entries ...string) {
		text := `{"keys": [` + strings.Join(entries, ",") + `]}`
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	var whole struct{ Keys []json.RawMessage }
	require.NoError(t, json.Unmarshal(raw, &whole))
	old := string(whole.Keys[0])
	next, entry := NewKey()
	third, other := NewKey()

	var told []string
	node := func() *Keys {
		k, err := LoadKeys(t.Context(), path, false)
		require.NoError(t, err)
		k.Share([]string{begun}, func(key string) { told = append(told, key) })
		return k
	}
	north := node()
	_, err = north.Rotate(t.Context())
	assert.ErrorContains(t, err, "no key comes after", "none is made where others have to know it")
	set(old, entry)
	south := node()
	assert.Equal(t, []any{next, []string{begun}}, []any{south.Next(), south.InForce()}, "nor put in force by a start")
	box, err := south.Seal("sailings", NewSecret("the-canary-value"))
	require.NoError(t, err)
	assert.Equal(t, begun, box.KeyID)
	assert.Empty(t, north.Next())
	require.NoError(t, north.Look(t.Context()))
	assert.Equal(t, next, north.Next())

	id, err := north.Rotate(t.Context())
	require.NoError(t, err)
	assert.Equal(t, next, id)
	assert.Equal(t, []string{next}, told)
	assert.Empty(t, north.Next())
	box, err = north.Seal("sailings", NewSecret("the-canary-value"))
	require.NoError(t, err)
	assert.Equal(t, next, box.KeyID)
	_, err = south.Open(box)
	require.NoError(t, err, "which is known already where it is not in force yet")
	south.PutInForce("k-nobody-has")
	assert.Equal(t, []string{begun}, south.InForce())
	south.PutInForce(next)
	assert.Equal(t, []string{begun, next}, south.InForce())
	require.NoError(t, north.Retire())
	assert.Equal(t, []string{begun, next}, north.IDs(), "whoever keeps the set removes what is old")

	for why, entries := range map[string][]string{"its first key": {entry, other}, "it lacks the key": {old, other}, "no key set": {}} {
		set(entries...)
		assert.ErrorContains(t, north.Look(t.Context()), why)
		_, err := north.Rotate(t.Context())
		assert.Error(t, err)
		assert.Equal(t, []string{begun, next}, north.InForce(), "nothing is lost by what somebody wrote")
	}
	set(old, entry, other)
	require.NoError(t, north.Look(t.Context()))
	assert.Equal(t, third, north.Next())
}
