package team

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPlacementNamesALabelOrNone(t *testing.T) {
	t.Parallel()
	for placement, want := range map[string]string{"label:cranes": "cranes", "label:": ""} {
		label, ok := PlacedAt(placement)
		assert.Equal(t, []any{want, true}, []any{label, ok}, placement)
	}
	for _, placement := range []string{"", PlacedEverywhere, PlacedOnce, "cranes", "xlabel:cranes"} {
		_, ok := PlacedAt(placement)
		assert.False(t, ok, placement)
	}
}
