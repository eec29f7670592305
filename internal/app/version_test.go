package app

import (
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheVersionNamesWhatItWasBuiltFrom(t *testing.T) {
	t.Parallel()
	info := func(modified string) *debug.BuildInfo {
		return &debug.BuildInfo{Settings: []debug.BuildSetting{
			{Key: "vcs.revision", Value: "0a1b2c3d4e5f60718293a4b5c6d7e8f901234567"},
			{Key: "vcs.modified", Value: modified},
		}}
	}
	assert.Equal(t, "0.1.0+0a1b2c3d", version(info("false"), true))
	assert.Equal(t, "0.1.0+0a1b2c3d.altered", version(info("true"), true))
	assert.Equal(t, "0.1.0", version(&debug.BuildInfo{}, true), "built outside of a checkout")
	assert.Equal(t, "0.1.0", version(nil, false))
}
