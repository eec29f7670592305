package app

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// What is started from here, and other programs of the same user, must not read the
// memory and the environment of the service.
func TestTheServiceIsNotReadByOthers(t *testing.T) {
	require.NoError(t, Harden())
	t.Cleanup(func() { _ = unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0) })
	dumpable, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
	require.NoError(t, err)
	assert.Zero(t, dumpable)
}
