package notify

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/quiet"
	"bouncer/internal/mail"
)

// note keeps what an event tells for everybody who wants to know and may.
func (svc *Service) note(ctx context.Context, e event) error {
	wishes, err := svc.wishes(ctx)
	if err != nil || len(wishes) == 0 {
		return err
	}
	people, err := svc.o.Store.People(ctx)
	if err != nil {
		return fmt.Errorf("look up whom to tell: %w", err)
	}
	m, err := e.tell(ctx)
	if err != nil || m.may == nil {
		return err
	}
	type due struct {
		person string
		at     time.Time
	}
	var list []due
	now := svc.o.Now()
	for _, p := range people {
		w := wishes[p.ID]
		if !w.Wants(e.topic) {
			continue
		}
		may, err := m.may(ctx, p)
		if err != nil {
			return fmt.Errorf("look up whether %s may be told: %w", p.Name, err)
		}
		if may {
			list = append(list, due{p.ID, w.Next(now)})
		}
	}
	if m.about != "" && len(list) > 0 && svc.o.First != nil && !svc.o.First(ctx, m.about) {
		return nil
	}
	subject, text := oneLine(svc.masked(m.subject)), svc.masked(m.text)
	return svc.o.Store.Part().Alter(ctx, func(tx *sql.Tx) error {
		if m.about != "" && len(list) > 0 {
			res, err := tx.ExecContext(ctx, `INSERT INTO mails_told (about, at) VALUES (?, ?) ON CONFLICT DO NOTHING`, m.about, now.UnixMilli())
			if err != nil {
				return fmt.Errorf("note what was told: %w", err)
			}
			if n, err := res.RowsAffected(); err != nil || n == 0 {
				return err
			}
		}
		for _, d := range list {
			_, err := tx.ExecContext(ctx, `INSERT INTO mails_due (person, due, at, subject, text) SELECT ?1, ?2, ?3, ?4, ?5
				WHERE (SELECT count(*) FROM mails_due WHERE person = ?1) < ?6`, d.person, d.at.UnixMilli(), now.UnixMilli(), subject, text, maxDue)
			if err != nil {
				return fmt.Errorf("keep what is to be told: %w", err)
			}
		}
		return nil
	})
}

// oneLine is a text without anything that ends a line.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// item is something that a person is to be told.
type item struct {
	id            int64
	at            time.Time
	subject, text string
	tries         int
}

// Deliver sends what is due: to each person one mail.
func (svc *Service) Deliver(ctx context.Context) error {
	byPerson, err := svc.due(ctx)
	if err != nil || len(byPerson) == 0 {
		return err
	}
	wishes, err := svc.wishes(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for person, items := range byPerson {
		if to := wishes[person].Mail; to != "" {
			err := svc.send(ctx, to, items)
			if err == nil {
				svc.sent()
			} else if ctx.Err() != nil {
				return ctx.Err()
			}
			errs = append(errs, err)
			if err != nil && svc.again(ctx, err, items) {
				continue
			}
		}
		errs = append(errs, svc.done(ctx, items))
	}
	return errors.Join(errs...)
}

func (svc *Service) send(ctx context.Context, to string, items []item) error {
	subject, text := "Bouncer: "+items[0].subject, items[0].text
	if len(items) > 1 {
		subject = fmt.Sprintf("Bouncer: %d notices, the last: %s", len(items), items[len(items)-1].subject)
		var all strings.Builder
		for _, i := range items {
			fmt.Fprintf(&all, "%s: %s\n%s\n\n", i.at.UTC().Format(time.RFC1123), i.subject, i.text)
		}
		if len(items) >= maxDue {
			all.WriteString("There was more, which is not told here.\n\n")
		}
		text = all.String()
	}
	return svc.o.Sender.Send(
		ctx,
		to,
		subject,
		text+fmt.Sprintf("\n\nWhat you are told of: %s/notices, or: bouncer mail show\n", svc.o.Console),
	)
}

func (svc *Service) due(ctx context.Context) (map[string][]item, error) {
	out := map[string][]item{}
	err := svc.o.Store.Part().View(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, `SELECT person, id, at, subject, text, tries FROM mails_due WHERE due <= ? ORDER BY person, id`,
			svc.o.Now().UnixMilli())
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var person string
			var at int64
			var i item
			if err := rows.Scan(&person, &i.id, &at, &i.subject, &i.text, &i.tries); err != nil {
				return err
			}
			i.at = time.UnixMilli(at)
			out[person] = append(out[person], i)
		}
		return rows.Err()
	})
	if err != nil {
		return nil, fmt.Errorf("read what is to be told: %w", err)
	}
	return out, nil
}

// again reports whether it is tried again later what could not be sent, and notes it.
func (svc *Service) again(ctx context.Context, why error, items []item) bool {
	var refused *mail.RefusedError
	tries := items[0].tries + 1
	if errors.As(why, &refused) || tries >= maxTries {
		return false
	}
	pause := min(time.Minute<<(tries-1), time.Hour)
	err := svc.o.Store.Part().Alter(ctx, func(tx *sql.Tx) error {
		for _, i := range items {
			_, err := tx.ExecContext(
				ctx,
				`UPDATE mails_due SET due = ?, tries = ? WHERE id = ?`,
				svc.o.Now().Add(pause).UnixMilli(),
				tries,
				i.id,
			)
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		svc.failed(fmt.Errorf("note that a mail is tried again: %w", err))
	}
	return true
}

func (svc *Service) done(ctx context.Context, items []item) error {
	err := svc.o.Store.Part().Alter(ctx, func(tx *sql.Tx) error {
		for _, i := range items {
			if _, err := tx.ExecContext(ctx, `DELETE FROM mails_due WHERE id = ?`, i.id); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("note what was sent: %w", err)
	}
	return nil
}

// forget drops notes of what was told before a time.
func (svc *Service) forget(ctx context.Context, before time.Time) error {
	err := svc.o.Store.Part().Alter(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM mails_told WHERE at < ?`, before.UnixMilli())
		return err
	})
	if err != nil {
		return fmt.Errorf("forget what was told long ago: %w", err)
	}
	return nil
}

// wishes are what people want to be told of, by their ids; those who want nothing are left
// out.
func (svc *Service) wishes(ctx context.Context) (map[string]quiet.Wish, error) {
	out := map[string]quiet.Wish{}
	err := svc.o.Store.Part().View(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, `SELECT id, notices FROM people WHERE notices <> ''`)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var person, wish string
			if err := rows.Scan(&person, &wish); err != nil {
				return err
			}
			var w quiet.Wish
			if err := json.Unmarshal([]byte(wish), &w); err != nil {
				return err
			}
			out[person] = w
		}
		return rows.Err()
	})
	if err != nil {
		return nil, fmt.Errorf("read what people want to be told of: %w", err)
	}
	return out, nil
}
