package app

import (
	"io/fs"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

type mode fs.FileMode

func (mode) Name() string        { return "" }
func (mode) Size() int64         { return 0 }
func (m mode) Mode() fs.FileMode { return fs.FileMode(m) }
func (mode) ModTime() time.Time  { return time.Time{} }
func (m mode) IsDir() bool       { return false }
func (mode) Sys() any            { return nil }

func TestSelfCheckTellsWhatIsWrongAndWhatHelps(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	good := func() circumstances {
		return circumstances{
			settings: Settings{Listen: "127.0.0.1:4680", Data: "/d", Keys: "/d/locker.keys", Processes: "on", DiskReserve: 256},
			address:  "http://127.0.0.1:4680", root: true, free: 1 << 40, now: now,
			stat: func(string) (fs.FileInfo, error) { return mode(0o600), nil },
		}
	}
	assert.Empty(t, good().selfCheck(), "nothing is said where nothing is wrong")
	for want, alter := range map[string]func(*circumstances){
		"can be read by others": func(c *circumstances) {
			c.stat = func(p string) (fs.FileInfo, error) {
				return mode(map[bool]fs.FileMode{true: 0o640, false: 0o700}[p == "/d/locker.keys"]), nil
			}
		},
		"can be looked into": func(c *circumstances) {
			c.stat = func(p string) (fs.FileInfo, error) {
				return mode(map[bool]fs.FileMode{true: 0o755, false: 0o600}[p == "/d"]), nil
			}
		},
		"run as root":               func(c *circumstances) { c.settings.ProcessUser = "root" },
		"the service's own user":    func(c *circumstances) { c.root = false },
		"less than the reserve":     func(c *circumstances) { c.free = 10 << 20 },
		"the clock says":            func(c *circumstances) { c.now = time.Unix(0, 0) },
		"ahead of the clock":        func(c *circumstances) { c.newest = now.AddDate(5, 0, 0) },
		"can be read on the way":    func(c *circumstances) { c.address = "http://bouncer.skerrow.example" },
		"no proxy is trusted":       func(c *circumstances) { c.address = "https://bouncer.skerrow.example" },
		"where others can reach it": func(c *circumstances) { c.settings.Listen = "0.0.0.0:4680" },
	} {
		c := good()
		alter(&c)
		list := c.selfCheck()
		if assert.Len(t, list, 1, want) {
			assert.Contains(t, list[0].What, want)
			assert.NotEmpty(t, list[0].Hint)
			assert.False(t, strings.HasSuffix(list[0].Hint, "."))
		}
	}
	c := good()
	c.address, c.settings.Proxies = "https://bouncer.skerrow.example", []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	c.settings.Keys, c.settings.Processes, c.root = "env:KEYS", "off", false
	assert.Empty(t, c.selfCheck())
}
