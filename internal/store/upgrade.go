package store

import (
	"github.com/pressly/goose/v3"

	"bouncer/internal/store/toblocks"
)

// blocksVersion is the schema from which on calls stand in blocks and no longer in rows.
const blocksVersion = 20

// upgrades are the steps between schemas that take more than SQL.
func upgrades() []*goose.Migration {
	return []*goose.Migration{goose.NewGoMigration(blocksVersion, &goose.GoFunc{RunTx: toblocks.Run}, nil)}
}
