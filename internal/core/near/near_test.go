package near

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	t.Parallel()
	names := []string{"delete_row", "delete_table", "list", "find_sailings"}
	for typed, want := range map[string]string{
		"delete_rwo":                "delete_row",    // two letters changed places
		"Delete_Row":                "delete_row",    // case is worth nothing
		"find_sailing":              "find_sailings", // one left out
		"delete_tabless":            "delete_table",
		"lst":                       "list",
		"delete_row":                "", // it is there; nothing else is meant
		"announce":                  "",
		"":                          "",
		strings.Repeat("x", 10_000): "",
	} {
		assert.Equal(t, want, Nearest(typed, names), typed)
	}
	long := strings.Repeat("y", maxLength)
	assert.Equal(t, long, Nearest("x"+long[1:], []string{long}), "as long as it is compared")
	assert.Empty(t, Nearest("x"+long, []string{long + "y"}))
	assert.Empty(t, Nearest(long, []string{long + "y"}))
	assert.Empty(t, Nearest(long+"y", []string{long}))
	assert.Equal(t, 3, distance("kitten", "sitting", 9))
	assert.Equal(t, 2, distance("kitten", "sitting", 2), "no more than what matters")
}
