package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"bouncer/internal/locker"
	"bouncer/internal/store"
	"bouncer/internal/store/schema"
	"bouncer/internal/upkeep"
)

// Restore puts a copy of the state in the place of what is in the data directory of the
// settings, where no service may run. The error is a *StartError.
func Restore(ctx context.Context, s Settings, file string, replace bool) (upkeep.Restored, error) {
	lock, err := openData(s.Data)
	if err != nil {
		return upkeep.Restored{}, err
	}
	defer lock.Close()
	var ids []string
	keys, keysErr := locker.LoadKeys(ctx, s.Keys, false)
	if keysErr == nil {
		ids = keys.IDs()
	}
	database := filepath.Join(s.Data, "bouncer.db")
	out, err := upkeep.Restore(ctx, file, database, ids, replace, time.Now())
	var missing *upkeep.KeyMissingError
	var newer *schema.NewerError
	var occupied *upkeep.OccupiedError
	var unfinished *upkeep.UnfinishedError
	var damaged *store.DamagedError
	switch {
	case err == nil:
		return out, nil
	case errors.As(err, &missing) && keysErr != nil:
		return out, &StartError{
			missing.Error() + ": the key set cannot be read: " + keysErr.Error(),
			"put the key set there first (setting keys), from where it was kept", err,
		}
	case errors.As(err, &missing):
		return out, &StartError{missing.Error(), "give the key set that belongs to the copy (setting keys)", err}
	case errors.As(err, &newer):
		return out, &StartError{newer.Error(), "restore it with the newer Bouncer that wrote it", err}
	case errors.As(err, &occupied):
		return out, &StartError{
			occupied.Error(),
			"add --replace to put the copy in its place; what is there is kept under another name",
			err,
		}
	case errors.As(err, &unfinished):
		return out, &StartError{
			unfinished.Error(), "start and stop the service once where it was, which writes it in, or use what bouncer backup wrote", err,
		}
	case errors.As(err, &damaged):
		return out, &StartError{"the copy is damaged: its pages hold something else than was written there", "use an older copy", err}
	}
	return out, &StartError{fmt.Sprintf("%s cannot be restored: %v", file, plain(err)), "name a file that bouncer backup wrote", err}
}
