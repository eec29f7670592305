package cluster

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

const (
	recordsAge = 7 * 24 * time.Hour // what is older goes, however much room there is
	recordTime = 3 * time.Second
)

// Records says how much of the records of calls the servers keep, of all nodes.
type Records struct {
	Room int64         // bytes; 0 for none at all
	Age  time.Duration // for how long calls are kept anyway; 0 for ever
}

// age is how old a copy becomes: not older than calls do where they are kept.
func (r Records) age() time.Duration {
	if r.Age > 0 && r.Age < recordsAge {
		return r.Age
	}
	return recordsAge
}

// newestHeader is the newest key of what a message holds.
const newestHeader = "Bouncer-Newest"

// openRecords makes the place for records of calls, of all nodes. The oldest go when it is full.
func (c *Cluster) openRecords(ctx context.Context, name string, copies int, r Records) (err error) {
	if r.Room == 0 {
		return nil
	}
	c.records, err = c.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: "BOUNCER_" + name + "_RECORDS", Description: "second copies of the records of calls", Subjects: []string{c.recordsOf("*")},
		Replicas: copies, Duplicates: 2 * time.Minute, MaxAge: r.age(), MaxBytes: r.Room, Discard: jetstream.DiscardOld,
	})
	var refused *jetstream.APIError
	if errors.As(err, &refused) && noRoom(refused.ErrorCode) {
		return &JoinError{
			fmt.Sprintf("the cluster's servers have no room for %d MiB of records of calls", r.Room>>20),
			"give them more room (max_file_store in their configuration), or let them keep less with the setting cluster-records", err,
		}
	}
	if err != nil {
		return fmt.Errorf("make the place for records of calls: %w", err)
	}
	return nil
}

// noRoom reports whether servers say that they cannot promise so much room: for lack of storage, or
// of any resource.
func noRoom(code jetstream.ErrorCode) bool { return code == 10047 || code == 10023 }

func (c *Cluster) recordsOf(node string) string {
	return strings.TrimSuffix(c.subject, ".log") + ".records." + node
}

// KeepRecords has the cluster keep records of this node, and returns when most of its servers have
// them on disk. The same id twice within two minutes is kept once. newest is the newest key of them.
// The error is an *UnreachableError.
func (c *Cluster) KeepRecords(ctx context.Context, id string, newest int64, raw []byte) error {
	ctx, stop := context.WithTimeout(ctx, recordTime)
	defer stop()
	m := nats.NewMsg(c.recordsOf(c.Node))
	m.Data = raw
	m.Header.Set(newestHeader, strconv.FormatInt(newest, 10))
	if _, err := c.js.PublishMsg(ctx, m, jetstream.WithMsgID(id), jetstream.WithRetryAttempts(3)); err != nil {
		return &UnreachableError{Unknown, err}
	}
	return nil
}

// NewestRecord is the newest key of this node's records that the cluster keeps; 0 for none.
func (c *Cluster) NewestRecord(ctx context.Context) (int64, error) {
	m, err := c.records.GetLastMsgForSubject(ctx, c.recordsOf(c.Node))
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("ask for the newest record that the cluster keeps: %w", err)
	}
	newest, err := strconv.ParseInt(m.Header.Get(newestHeader), 10, 64)
	if err != nil {
		return 0, fmt.Errorf("read which records the cluster keeps: %w", err)
	}
	return newest, nil
}

// next is the next message, for which the servers have some seconds.
func next(ctx context.Context, list jetstream.MessagesContext) (jetstream.Msg, error) {
	ctx, stop := context.WithTimeout(ctx, connectTime)
	defer stop()
	return list.Next(jetstream.NextContext(ctx))
}

// KeptRecords gives fn what the cluster keeps of this node with a newest key after one, in order.
func (c *Cluster) KeptRecords(ctx context.Context, after int64, fn func(raw []byte) error) error {
	end, err := c.records.GetLastMsgForSubject(ctx, c.recordsOf(c.Node))
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("ask where the records end that the cluster keeps: %w", err)
	}
	all, err := c.records.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{c.recordsOf(c.Node)}})
	if err != nil {
		return fmt.Errorf("read the records that the cluster keeps: %w", err)
	}
	list, err := all.Messages()
	if err != nil {
		return fmt.Errorf("read the records that the cluster keeps: %w", err)
	}
	defer list.Stop()
	for {
		m, err := next(ctx, list)
		if err != nil {
			return fmt.Errorf("read the records that the cluster keeps: %w", err)
		}
		at, err := m.Metadata()
		if err != nil {
			return fmt.Errorf("read the records that the cluster keeps: %w", err)
		}
		newest, err := strconv.ParseInt(m.Headers().Get(newestHeader), 10, 64)
		if err == nil && newest > after {
			if err := fn(m.Data()); err != nil {
				return err
			}
		}
		if at.Sequence.Stream >= end.Sequence {
			return nil
		}
	}
}
