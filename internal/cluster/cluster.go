// Package cluster is what several nodes have in common that are one Bouncer: a log, a few
// buckets and a place for copies of the state, all kept by JetStream. Of consensus,
// replication and the choice of leaders nothing is done here. What the nodes do with it stands
// in the packages below.
package cluster

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"bouncer/internal/core/team"
)

// Options say which cluster a node joins, and as whom.
type Options struct {
	Servers     []string // addresses, as in nats://10.0.0.1:4222
	Name        string   // of the Bouncer, where several share the same servers
	Node        string   // of this node
	Credentials string   // what the servers are shown: a file of credentials, user:password, or a token; "" for nothing
	Records     Records
	Authority   string // file of certificates that those of the servers are signed by; "" for those of the system
	Log         *slog.Logger
}

// JoinError says why a cluster cannot be joined, and what helps.
type JoinError struct {
	What, Hint string
	err        error
}

func (e *JoinError) Error() string { return e.What }

func (e *JoinError) Unwrap() error { return e.err }

// Cluster is the connection to what the nodes have in common. It is safe for concurrent use.
type Cluster struct {
	ID   string // a ULID, made by the first node there was
	Node string

	Log    jetstream.Stream
	States jetstream.ObjectStore // copies of the state
	Nodes  jetstream.KeyValue    // who is there; what is not told again is gone after LeftAfter
	Orders jetstream.KeyValue    // what nodes are to do
	Facts  jetstream.KeyValue    // the id of the cluster, and its newest copy of the state
	leases jetstream.KeyValue
	once   jetstream.KeyValue // what one node does for all
	grants jetstream.KeyValue // tokens that one node was given for all

	records jetstream.Stream
	conn    *nats.Conn
	js      jetstream.JetStream
	subject string
}

const (
	connectTime   = 10 * time.Second
	subscribeTime = 2 * time.Second
	// LeftAfter is how long a node is taken to be there that says nothing.
	LeftAfter = 10 * time.Second
	// LeaseTime is how long a lease lasts that is not taken again.
	LeaseTime = 30 * time.Second
)

const idKey = "cluster"

// grantsTime is for how long tokens are kept that one node was given for all: few are valid for longer.
const grantsTime = 24 * time.Hour

// onceTime is for how long it is known that something was done for all nodes.
const onceTime = 48 * time.Hour

// Join connects to a cluster, and makes what is not there yet. The error is a *JoinError.
func Join(ctx context.Context, o Options) (_ *Cluster, err error) {
	c := &Cluster{Node: o.Node, subject: "bouncer." + o.Name + ".log"}
	if c.conn, err = connect(o); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			c.conn.Close()
		}
	}()
	if c.js, err = jetstream.New(c.conn); err != nil {
		return nil, &JoinError{fmt.Sprintf("the cluster cannot be used: %v", err), "check the setting cluster", err}
	}
	ctx, stop := context.WithTimeout(ctx, 4*connectTime)
	defer stop()
	for { // servers that are starting have no leader yet, for a few seconds
		if err = c.open(ctx, o); err == nil {
			return c, nil
		}
		var known *JoinError
		if errors.As(err, &known) {
			return nil, known
		}
		if !errors.Is(err, nats.ErrNoResponders) && !errors.Is(err, context.DeadlineExceeded) && !starting(err) {
			return nil, &JoinError{fmt.Sprintf("the cluster %s cannot be used: %v", o.Name, err), hintFor(err), err}
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return nil, &JoinError{fmt.Sprintf("the cluster %s does not answer: %v", o.Name, err), hintFor(err), err}
		}
	}
}

// starting reports whether an error is one of servers that do not agree on a leader yet.
func starting(err error) bool {
	var e *jetstream.APIError
	if !errors.As(err, &e) {
		return false
	}
	return e.Code == 503 || e.ErrorCode == 10005 || e.ErrorCode == 10008 // no suitable peers, no leader
}

// Passing reports whether an error is one of servers that are out of reach for the moment, or choose
// a leader.
func Passing(err error) bool {
	for _, one := range [...]error{
		context.DeadlineExceeded, nats.ErrTimeout, nats.ErrNoResponders, jetstream.ErrNoStreamResponse, nats.ErrReconnectBufExceeded,
		nats.ErrDisconnected,
	} {
		if errors.Is(err, one) {
			return true
		}
	}
	return starting(err)
}

// patience is for how long a node that starts puts up with servers that were there a moment ago.
const patience = 40 * time.Second

// Patiently does something that a start needs, again and again while its error is Passing.
func Patiently(ctx context.Context, fn func() error) error {
	ends := time.Now().Add(patience)
	for {
		err := fn()
		if err == nil || !Passing(err) || time.Now().After(ends) || ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(250 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

func hintFor(err error) string {
	if errors.Is(err, jetstream.ErrJetStreamNotEnabled) || errors.Is(err, jetstream.ErrJetStreamNotEnabledForAccount) {
		return "start the servers with JetStream (nats-server -js), and allow it for the account"
	}
	if errors.Is(err, nats.ErrNoResponders) {
		return "start the servers with JetStream (nats-server -js), and see that most of them are there"
	}
	return "see in the log of the servers whether most of them are there, and have room"
}

func connect(o Options) (*nats.Conn, error) {
	settings := []nats.Option{
		nats.Name("bouncer " + o.Node), nats.Timeout(connectTime), nats.MaxReconnects(-1), nats.ReconnectWait(250 * time.Millisecond),
		nats.ReconnectBufSize(-1), // what cannot be sent now is an error now, and is not sent later
		nats.PingInterval(5 * time.Second), nats.MaxPingsOutstanding(2),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { o.Log.Warn("the cluster is out of reach", "error", err) }),
		nats.ReconnectHandler(func(c *nats.Conn) {
			o.Log.Info("the cluster is within reach again", "server", c.ConnectedUrlRedacted())
		}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { o.Log.Warn("the cluster", "error", err) }),
	}
	switch shown := strings.TrimSpace(o.Credentials); {
	case shown == "":
	case strings.Contains(shown, "BEGIN NATS USER JWT"):
		settings = append(settings, nats.UserCredentialBytes([]byte(shown)))
	default:
		if user, password, pair := strings.Cut(shown, ":"); pair {
			settings = append(settings, nats.UserInfo(user, password))
		} else {
			settings = append(settings, nats.Token(shown))
		}
	}
	if o.Authority != "" {
		raw, err := os.ReadFile(o.Authority)
		pool := x509.NewCertPool()
		if err == nil && !pool.AppendCertsFromPEM(raw) {
			err = errors.New("it holds no certificate in PEM")
		}
		if err != nil {
			return nil, &JoinError{fmt.Sprintf("the certificates for the cluster cannot be read: %v", err), "check the setting cluster-ca", err}
		}
		settings = append(settings, nats.Secure(&tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}))
	}
	conn, err := nats.Connect(strings.Join(o.Servers, ","), settings...)
	switch {
	case err == nil:
		return conn, nil
	case errors.Is(err, nats.ErrAuthorization) || errors.Is(err, nats.ErrAuthExpired):
		return nil, &JoinError{"the cluster refuses the credentials of this node", "check the setting cluster-credentials", err}
	case errors.Is(err, nats.ErrSecureConnWanted) || errors.Is(err, nats.ErrSecureConnRequired):
		return nil, &JoinError{fmt.Sprintf("the cluster cannot be reached: %v", err), "check whether the addresses begin with tls://", err}
	}
	return nil, &JoinError{
		fmt.Sprintf("none of the cluster's servers can be reached (%s): %v", strings.Join(redacted(o.Servers), ", "), err),
		"check the setting cluster, and that the servers run", err,
	}
}

// redacted are addresses without what stands before an @.
func redacted(servers []string) []string {
	out := make([]string, len(servers))
	for i, s := range servers {
		if at := strings.LastIndexByte(s, '@'); at >= 0 {
			s = s[at+1:]
		}
		out[i] = s
	}
	return out
}

// open makes what is not there yet.
func (c *Cluster) open(ctx context.Context, o Options) (err error) {
	ctx, stop := context.WithTimeout(ctx, connectTime)
	defer stop()
	name := strings.ToUpper(strings.ReplaceAll(o.Name, "-", "_"))
	copies, log := 1, "BOUNCER_"+name+"_LOG"
	if len(o.Servers) >= 3 {
		copies = 3
	}
	// A node that was told of fewer servers makes nothing less safe than it is.
	if there, err := c.js.Stream(ctx, log); err == nil {
		copies = max(copies, there.CachedInfo().Config.Replicas)
	} else if !errors.Is(err, jetstream.ErrStreamNotFound) {
		return fmt.Errorf("look for the log: %w", err)
	}
	c.Log, err = c.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: log, Description: "what is altered in the register of Bouncer, in order", Subjects: []string{c.subject},
		Replicas: copies, Duplicates: 2 * time.Minute, DenyDelete: true, MaxMsgSize: -1,
	})
	if err != nil {
		return fmt.Errorf("make the log: %w", err)
	}
	for _, b := range []struct {
		to   *jetstream.KeyValue
		name string
		ttl  time.Duration
	}{
		{&c.Nodes, "NODES", LeftAfter}, {&c.Orders, "ORDERS", 0}, {&c.Facts, "FACTS", 0}, {&c.leases, "LEASES", LeaseTime},
		{&c.once, "ONCE", onceTime}, {&c.grants, "GRANTS", grantsTime},
	} {
		bucket := jetstream.KeyValueConfig{Bucket: "BOUNCER_" + name + "_" + b.name, Replicas: copies, TTL: b.ttl}
		if *b.to, err = c.js.CreateOrUpdateKeyValue(ctx, bucket); err != nil {
			return fmt.Errorf("make the bucket %s: %w", bucket.Bucket, err)
		}
	}
	states := jetstream.ObjectStoreConfig{Bucket: "BOUNCER_" + name + "_STATES", Replicas: copies}
	if c.States, err = c.js.CreateOrUpdateObjectStore(ctx, states); err != nil {
		return fmt.Errorf("make the place for copies of the state: %w", err)
	}
	if err := c.openRecords(ctx, name, copies, o.Records); err != nil {
		return err
	}
	return c.identify(ctx)
}

// identify reads the id of the cluster, or gives it one.
func (c *Cluster) identify(ctx context.Context) (err error) {
	c.ID, err = c.FactOr(ctx, idKey, team.NewID())
	return err
}

// Keys are the keys of a bucket, those included that were removed of late. It takes one question,
// and no consumer at the servers.
func (c *Cluster) Keys(ctx context.Context, bucket jetstream.KeyValue) (keys []string, err error) {
	kept, err := c.js.Stream(ctx, "KV_"+bucket.Bucket())
	if err != nil {
		return nil, fmt.Errorf("look into the bucket %s: %w", bucket.Bucket(), err)
	}
	prefix := "$KV." + bucket.Bucket() + "."
	info, err := kept.Info(ctx, jetstream.WithSubjectFilter(prefix+">"))
	if err != nil {
		return nil, fmt.Errorf("list the bucket %s: %w", bucket.Bucket(), err)
	}
	for subject := range info.State.Subjects {
		keys = append(keys, strings.TrimPrefix(subject, prefix))
	}
	return keys, nil
}

// Fact is something that all nodes know of the cluster; "" for what nobody noted.
func (c *Cluster) Fact(ctx context.Context, name string) (string, error) {
	entry, err := c.Facts.Get(ctx, name)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("read the fact %s: %w", name, err)
	}
	return string(entry.Value()), nil
}

// FactOr is a fact, and notes it where nobody has.
func (c *Cluster) FactOr(ctx context.Context, name, otherwise string) (string, error) {
	for {
		fact, err := c.Fact(ctx, name)
		if err != nil || fact != "" {
			return fact, err
		}
		if _, err := c.Facts.Create(ctx, name, []byte(otherwise)); err != nil && !errors.Is(err, jetstream.ErrKeyExists) {
			return "", fmt.Errorf("note the fact %s: %w", name, err)
		}
	}
}

// ErrBehind is returned when something else was written after what an entry was to follow.
var ErrBehind = errors.New("something else was written to the log meanwhile")

// What became of an alteration.
const (
	Nothing  Outcome = iota // it was not taken
	Unknown                 // it may have been taken
	Recorded                // it was taken, and does not hold at this node yet
)

// Outcome is what became of an alteration that could not be brought to its end.
type Outcome int

// UnreachableError says that the cluster could not be had for an alteration.
type UnreachableError struct {
	Outcome Outcome
	Err     error
}

func (e *UnreachableError) Error() string {
	switch e.Outcome {
	case Unknown:
		return fmt.Sprintf("the cluster did not answer (%v); whether it was recorded shows when it is within reach again", e.Err)
	case Recorded:
		return fmt.Sprintf("it is recorded, and does not hold at this node yet (%v)", e.Err)
	}
	return fmt.Sprintf("most of the cluster cannot be reached (%v); nothing was altered", e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

// Unavailable is what helps, for those who do not know clusters.
func (e *UnreachableError) Unavailable() string {
	return "see whether most of the cluster's servers are there, and try again; bouncer node list shows how far the nodes are"
}

// TooLargeError says that an entry is larger than the servers take.
type TooLargeError struct{ Size, Most int64 }

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("the alteration takes %d bytes in the log, and the cluster's servers take %d; nothing was altered", e.Size, e.Most)
}

// Unavailable is what helps, for those who do not know clusters.
func (e *TooLargeError) Unavailable() string {
	return "raise max_payload in the configuration of the cluster's servers"
}

// publishTime is how long it is tried to write to the log.
const publishTime = 10 * time.Second

// Append writes to the log what is to follow the entry of a number, and returns its own. The
// same id twice is one entry. The error is ErrBehind, a *TooLargeError or an *UnreachableError.
func (c *Cluster) Append(ctx context.Context, id string, raw []byte, after uint64) (uint64, error) {
	if most := c.conn.MaxPayload(); int64(len(raw)) > most-1024 {
		return 0, &TooLargeError{int64(len(raw)), most}
	}
	ctx, stop := context.WithTimeout(ctx, publishTime)
	defer stop()
	outcome := Nothing
	for {
		try, end := context.WithTimeout(ctx, publishTime/3)
		ack, err := c.js.Publish(try, c.subject, raw, jetstream.WithMsgID(id), jetstream.WithExpectLastSequence(after))
		end()
		var refused *jetstream.APIError
		switch {
		case err == nil:
			return ack.Sequence, nil
		case errors.As(err, &refused) && wrongSequence(refused.ErrorCode):
			return 0, ErrBehind
		case refused != nil, errors.Is(err, nats.ErrNoResponders), errors.Is(err, nats.ErrReconnectBufExceeded),
			errors.Is(err, nats.ErrConnectionClosed):
			// It was not sent, nobody was there, or it was not taken.
		default:
			outcome = Unknown
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return 0, &UnreachableError{outcome, err}
		}
	}
}

// Last is the number of the newest entry of the log, and that of the oldest that is kept.
func (c *Cluster) Last(ctx context.Context) (first, last uint64, err error) {
	info, err := c.Log.Info(ctx)
	if err != nil {
		return 0, 0, fmt.Errorf("ask where the log ends: %w", err)
	}
	return info.State.FirstSeq, info.State.LastSeq, nil
}

// Connected reports whether there is a connection to one of the servers.
func (c *Cluster) Connected() bool { return c.conn.IsConnected() }

// Close ends the connection.
func (c *Cluster) Close() { c.conn.Close() }

// wrongSequence reports whether a code says that an entry is not what follows, by one server or
// by several.
func wrongSequence(code jetstream.ErrorCode) bool {
	return code == jetstream.JSErrCodeStreamWrongLastSequence || code == jetstream.JSErrCodeStreamWrongLastSequenceConstant
}

// Listen has fn answer what other nodes ask this one. stop ends it.
func (c *Cluster) Listen(fn func(raw []byte, answer func([]byte))) (stop func(), err error) {
	return c.subscribe(c.ask(c.Node), func(m *nats.Msg) {
		fn(m.Data, func(raw []byte) { _ = m.Respond(raw) }) // who asked waits no longer than it wants to
	})
}

// subscribe has fn be told what comes under a subject. When it returns, the server that this node
// is connected to knows of it, so that what others say from then on is not missed. One that cannot
// be reached has nothing to say; it is told when it is there again.
func (c *Cluster) subscribe(subject string, fn func(*nats.Msg)) (stop func(), err error) {
	heard, err := c.conn.Subscribe(subject, fn)
	if err != nil {
		return nil, fmt.Errorf("listen to other nodes: %w", err)
	}
	_ = c.conn.FlushTimeout(subscribeTime)
	return func() { _ = heard.Unsubscribe() }, nil
}

// Tell tells all other nodes something; who does not listen misses it.
func (c *Cluster) Tell(raw []byte) error {
	if err := c.conn.Publish(c.news(), raw); err != nil {
		return fmt.Errorf("tell the other nodes: %w", err)
	}
	return nil
}

// Hear has fn be told what nodes tell, this one included. stop ends it.
func (c *Cluster) Hear(fn func(raw []byte)) (stop func(), err error) {
	return c.subscribe(c.news(), func(m *nats.Msg) { fn(m.Data) })
}

func (c *Cluster) news() string { return strings.TrimSuffix(c.subject, ".log") + ".news" }

// Ask asks another node.
func (c *Cluster) Ask(ctx context.Context, node string, raw []byte) ([]byte, error) {
	answer, err := c.conn.RequestWithContext(ctx, c.ask(node), raw)
	if err != nil {
		return nil, fmt.Errorf("ask the node %s: %w", node, err)
	}
	return answer.Data, nil
}

// MaxMessage is how many bytes a question or an answer may have.
func (c *Cluster) MaxMessage() int { return int(c.conn.MaxPayload()) }

func (c *Cluster) ask(node string) string {
	return strings.TrimSuffix(c.subject, ".log") + ".node." + node
}

// Send sends a part of what two nodes have to say to each other; it may be lost.
func (c *Cluster) Send(node string, raw []byte) error {
	if err := c.conn.Publish(c.ask(node)+".passage", raw); err != nil {
		return fmt.Errorf("send to the node %s: %w", node, err)
	}
	return nil
}

// Receive has fn be told what other nodes send to this one, in their order. stop ends it.
func (c *Cluster) Receive(fn func(raw []byte)) (stop func(), err error) {
	return c.subscribe(c.ask(c.Node)+".passage", func(m *nats.Msg) { fn(m.Data) })
}
