package team

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPlacementNamesALabelOrNone(t *testing.T) {
	t.Parallel()
	for placement, want := range map[string]string{
		"label:cranes": "cranes", "label:": "", "everywhere": "-", "one": "-", "": "-", "cranes": "-", "xlabel:cranes": "-",
	} {
		label, ok := PlacedAt(placement)
		if !ok {
			label = "-"
			assert.Contains(t, []string{PlacedEverywhere, PlacedOnce, "", "cranes", "xlabel:cranes"}, placement)
		}
		assert.Equal(t, want, label, placement)
	}
}
