package launch

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/mask"
)

// A secret does not come back where a long log is cut.
func TestALongLogIsMaskedBeforeItIsCut(t *testing.T) {
	t.Parallel()
	const canary = "skf-canary-7d1e0b9a44"
	log := headTail{wrote: func() {}}
	for range 3000 {
		_, _ = io.WriteString(&log, canary)
	}
	assert.False(t, strings.Contains(log.text(mask.New([]string{canary})), canary[5:15]), "where the log was cut")
}
