package app

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/control/approval"
	"bouncer/internal/control/notice"
	"bouncer/internal/events"
	"bouncer/internal/gate"
	"bouncer/internal/locker"
)

// openHeld opens the room where held calls wait, and has notices sent of them.
func (svc *Service) openHeld(ctx context.Context, hub *events.Hub, book *gate.Book) error {
	s := svc.Settings
	key, err := noticeKey(ctx, s)
	if err != nil {
		return err
	}
	var room *approval.Room
	svc.notices = notice.New(notice.Options{
		Address: s.HeldNotices, Key: key, Console: svc.Address, Log: svc.log,
		// The sender is told of calls by the room only, which there is then.
		Call: func(ctx context.Context, id string) (apitype.HeldCall, []string, error) {
			return room.Describe(ctx, id)
		},
	})
	room = approval.New(approval.Options{
		Store: svc.store, Events: hub, Masker: svc.masks.Masker, Book: book, Log: svc.log, Now: s.Now,
		Told: func(id string, decided bool) {
			what := notice.Waits
			if decided {
				what = notice.Decided
			} else {
				svc.mails.HeldCall(id)
			}
			svc.notices.Note(what, id)
		},
	})
	svc.held = room
	return nil
}

// noticeKey reads the key that notices are signed with.
func noticeKey(ctx context.Context, s Settings) ([]byte, error) {
	if s.HeldNotices == "" && s.IncidentNotices == "" {
		return nil, nil
	}
	fail := func(err error) error {
		return &StartError{
			fmt.Sprintf("the key for notices of held calls cannot be used: %v", err), "check the setting held-notices-key", err,
		}
	}
	if s.HeldNoticesKey == "" {
		return nil, fail(errors.New("there is none, and notices are signed"))
	}
	raw, err := locker.Outside(ctx, s.HeldNoticesKey)
	if err != nil {
		return nil, fail(err)
	}
	key := strings.TrimSpace(raw.Reveal())
	if len(key) < notice.MinKey {
		return nil, fail(fmt.Errorf("it has %d characters; %d are the least", len(key), notice.MinKey))
	}
	return []byte(key), nil
}

// tellIncidents returns who sends notices of incidents; nil for nobody.
func (svc *Service) tellIncidents(ctx context.Context) (*notice.Sender, error) {
	key, err := noticeKey(ctx, svc.Settings)
	if err != nil {
		return nil, err
	}
	return notice.New(notice.Options{
		Address: svc.Settings.IncidentNotices, Key: key, Console: svc.Address, Log: svc.log, Incident: svc.store.Incident,
	}), nil
}
