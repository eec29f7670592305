package across

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"bouncer/internal/core/team"
)

// verifyTime is how long a node may take to go through its journal.
const verifyTime = 5 * time.Minute

// everyChain is what each node found of its own journal: that of this one first.
func everyChain(_ *http.Request, bodies [][]byte) (any, error) {
	all := make([]team.ChainState, len(bodies))
	for i, body := range bodies {
		if err := json.Unmarshal(body, &all[i]); err != nil {
			return nil, fmt.Errorf("read what a node found of its journal: %w", err)
		}
	}
	own := all[0]
	own.Others = all[1:]
	slices.SortFunc(own.Others, func(a, b team.ChainState) int { return cmp.Compare(a.Node, b.Node) })
	return own, nil
}
