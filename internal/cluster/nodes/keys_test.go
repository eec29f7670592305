package nodes_test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/locker"
	"bouncer/internal/testkit"
)

// A key is put in force at all nodes once each of them knows it, and not before; what one node seals
// with it, the others open, and a node without it is not ready.
func TestAKeyIsRotatedAtAllNodes(t *testing.T) {
	t.Parallel()
	c := begin(t)
	const token = "skf-4hg2Lq9vPz7Wm1Tx"
	north := c.node("north")
	echo := testkit.Upstream(t, testkit.Echo(token, nil))
	north.Register("echo", echo, token)
	raw, err := os.ReadFile(c.keys)
	require.NoError(t, err)
	theirs := filepath.Join(t.TempDir(), "locker.keys")
	require.NoError(t, os.WriteFile(theirs, raw, 0o600))
	south := c.node("south", "keys", theirs)
	c.level(north, south)
	show := func(w *testkit.World) (set apitype.KeySet) {
		w.Must("GET", "/api/locker", nil, &set)
		return set
	}
	first := show(north).Keys

	p := north.Problem("POST", "/api/locker/rotate", nil)
	assert.Equal(t, []any{http.StatusConflict, "keys"}, []any{p.Status, p.Field})
	assert.Contains(t, p.Hint, "bouncer locker new", "none is made by a node of a cluster")

	id, entry := locker.NewKey()
	add := func(path string) {
		var set struct {
			Keys []json.RawMessage `json:"keys"`
		}
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &set))
		set.Keys = append(set.Keys, json.RawMessage(entry))
		raw, err = json.Marshal(set)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, raw, 0o600))
	}
	add(c.keys)
	set := show(north)
	assert.Equal(t, []any{first, id, true}, []any{set.Keys, set.Next, set.Shared})
	p = north.Problem("POST", "/api/locker/rotate", nil)
	assert.Equal(t, "the key "+id+" is not known at south yet", p.Title)
	assert.Equal(t, first, show(north).Keys, "and nothing has changed")

	add(theirs)
	north.Must("POST", "/api/locker/rotate", nil, &set)
	assert.Equal(t, []any{append(first, id), true}, []any{set.Keys, set.Rewrapped > 0})
	require.Eventually(t, func() bool { return show(south).Next == "" }, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, append(first, id), show(south).Keys)
	south.Register("echo-two", echo, token)
	c.level(north, south)
	north.Must("POST", "/api/servers/echo-two/check", nil, nil)

	third := c.node("west", "keys", theirs)
	c.level(north, south, third)
	assert.Equal(t, append(first, id), show(third).Keys, "what is sealed with it is in force at a start")
	require.NoError(t, os.WriteFile(theirs+".old", raw, 0o600))
	fourth := c.node("isle", "keys", theirs+".old")
	status, why := get(t, fourth.Base+"/readyz")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, why, id)
}
