package app

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/serverspec"
	duration "bouncer/internal/core/span"
	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/login"
	"bouncer/internal/mail"
)

// Settings are what the service is started with.
type Settings struct {
	Listen       string
	Data         string
	Keys         string
	PublicURL    string
	Journal      string
	BodyLimit    int
	Bodies       int // kept by the journal, in bytes
	JournalDays  int // 0 for without a bound
	JournalSize  int // MiB of the database; 0 for without a bound
	DiskReserve  int // MiB that are kept free on the disk; 0 for not looking
	PassRate     int // requests a second with one pass; 0 for any number
	ProcessUser  string
	Proxies      []netip.Prefix // whose word counts for where a request comes from
	MessageLimit int
	CallTimeout  time.Duration
	Poll         time.Duration
	CheckupEvery time.Duration // 0 for never
	LogLevel     slog.Level
	LogFormat    string
	FirstAdmin   string
	// FirstPassword is where the first admin's password is read; "" for a one-time one.
	FirstPassword string
	// Stdin is standard input, for what is read there; nil for none.
	Stdin     io.Reader
	Processes string
	// AlteredPrograms is tell or restart.
	AlteredPrograms string
	// Recorder is on or off.
	Recorder string
	// Private are address ranges that are not public and may be reached all the
	// same when others name them.
	Private       []netip.Prefix
	AddressPasses bool
	// HeldNotices is where notices of held calls go, and HeldNoticesKey where the key is read
	// that they are signed with.
	HeldNotices, HeldNoticesKey string
	// IncidentNotices is where notices of incidents go, signed with the same key.
	IncidentNotices string
	// Mail is how people are told by mail; without a server nobody is.
	Mail Mail
	// Trace is where calls are told of as traces.
	Trace Trace
	// Cluster is which nodes are one Bouncer with this one.
	Cluster Cluster
	// BackupDir is where copies of the state are made by themselves, every BackupEvery.
	BackupDir   string
	BackupEvery time.Duration
	// MetricsListen is an address of its own for metrics, MetricsToken where the token is
	// read that opens them at the service's address; "" for neither.
	MetricsListen, MetricsToken string
	OIDC                        OIDC
	// PasswordCost is what hashing a password takes; zero is the default. It is no
	// setting: only tests make it cheap.
	PasswordCost login.Cost
	// WriteTime is how long an answer may take to be read, after the time that a call
	// may take; zero is two minutes. Only tests make it short.
	WriteTime time.Duration
	// Now is the clock by which grants and values grow old; nil is time.Now. It is no
	// setting either.
	Now func() time.Time
}

// OIDC is where people sign in (OpenID Connect); without an issuer there is no
// such place.
type OIDC struct {
	Issuer, ClientID, Name string
	Secret                 string // where the client's secret is read: env NAME or file PATH
	Groups                 map[string]team.Role
}

// SettingError names a setting that cannot be accepted, where it came from, and
// what is allowed.
type SettingError struct{ Key, From, Why string }

func (e *SettingError) Error() string {
	return fmt.Sprintf("setting %s (%s) %s", e.Key, e.From, e.Why)
}

// Setting describes one setting for help texts and the reference.
type Setting struct {
	Key     string
	Default string
	Help    string
	set     func(*Settings, string) error
}

// Env is the environment variable of the setting.
func (s Setting) Env() string {
	return "BOUNCER_" + strings.ToUpper(strings.ReplaceAll(s.Key, "-", "_"))
}

// Trace is how calls are told of as traces.
type Trace struct {
	To, Token string
	Share     float64
}

// Mail is how mail is sent.
type Mail struct{ Server, From, User, Password string }

// source is a setting that says where something secret is read, and does not hold it.
func source(to func(*Settings) *string, what string) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		if v != "" && (locker.CheckSource(v) != nil || strings.HasPrefix(v, "command ")) {
			return fmt.Errorf("must look like env NAME or file /PATH; %s does not belong here", what)
		}
		*to(s) = v
		return nil
	}
}

func oneOf(dst func(*Settings) *string, allowed ...string) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		if !slices.Contains(allowed, v) {
			return fmt.Errorf("is %q; it must be %s", v, strings.Join(allowed, " or "))
		}
		*dst(s) = v
		return nil
	}
}

func span(dst func(*Settings) *time.Duration, low, high time.Duration) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		d, err := duration.Parse(v)
		if err != nil || d < low || d > high {
			return fmt.Errorf("is %q; it must be a time from %s to %s, like 90s, 5m or 1d", v, duration.Text(low), duration.Text(high))
		}
		*dst(s) = d
		return nil
	}
}

func size(dst func(*Settings) *int, low, high int) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		n, err := strconv.Atoi(v)
		if err != nil || n < low || n > high {
			return fmt.Errorf("is %q; it must be a number of bytes from %d to %d", v, low, high)
		}
		*dst(s) = n
		return nil
	}
}

func number(dst func(*Settings) *int, low, high int, unit string) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		n, err := strconv.Atoi(v)
		if err != nil || n < low || n > high {
			return fmt.Errorf("is %q; it must be a number of %s from %d to %d", v, unit, low, high)
		}
		*dst(s) = n
		return nil
	}
}

func ranges(dst func(*Settings) *[]netip.Prefix) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		for _, part := range strings.Split(v, ",") {
			if part = strings.TrimSpace(part); part == "" {
				continue
			}
			p, err := netip.ParsePrefix(part)
			if err != nil {
				return fmt.Errorf("holds %q; ranges look like 10.0.0.0/8", part)
			}
			*dst(s) = append(*dst(s), p)
		}
		return nil
	}
}

// nodeName is what nodes and clusters can be called.
var nodeName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Table lists every setting.
var table = []Setting{
	{"listen", "127.0.0.1:4680", "address and port to listen on", func(s *Settings, v string) error {
		if _, port, err := net.SplitHostPort(v); err != nil || port == "" {
			return fmt.Errorf("is %q; it must be host:port, like 127.0.0.1:4680", v)
		}
		s.Listen = v
		return nil
	}},
	{"data", defaultData(), "directory that holds the state", func(s *Settings, v string) error {
		if v == "" {
			return errors.New("is empty; it must be a directory")
		}
		s.Data = v
		return nil
	}},
	{
		"keys",
		"",
		"key set of the locker: a file, env:NAME for a variable or command:LINE for the output of a command; locker.keys in the data directory if left out",
		func(s *Settings, v string) error { s.Keys = v; return nil },
	},
	{
		"public-url",
		"",
		"base URL under which people and agents reach the service; http:// and the listen address if left out",
		func(s *Settings, v string) error {
			if u, err := url.Parse(v); v != "" &&
				(err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") || strings.Trim(u.Path, "/") != "") {
				return fmt.Errorf("is %q; it must be a base URL without a path, like https://bouncer.example", v)
			}
			s.PublicURL = strings.TrimRight(v, "/")
			return nil
		},
	},
	{
		"journal",
		"normal",
		"normal: answers never wait for the disk; strict: no answer before its record is committed",
		oneOf(func(s *Settings) *string { return &s.Journal }, "normal", "strict"),
	},
	{
		"journal-bodies",
		"2048",
		"how much is kept of arguments and of a result, in bytes each",
		size(func(s *Settings) *int { return &s.Bodies }, 64, 1<<20),
	},
	{
		"journal-days",
		"90",
		"for how many days calls are kept; 0 for without a bound",
		number(func(s *Settings) *int { return &s.JournalDays }, 0, 36_500, "days"),
	},
	{
		"journal-size",
		"2048",
		"how large the database may become, in MiB, before the oldest calls are removed; 0 for without a bound",
		number(func(s *Settings) *int { return &s.JournalSize }, 0, 16<<20, "MiB"),
	},
	{
		"disk-reserve",
		"256",
		"how much of the disk is kept free for people to sign in, pause and revoke, in MiB; below that, calls are not recorded. 0 for not looking",
		number(func(s *Settings) *int { return &s.DiskReserve }, 0, 1<<20, "MiB"),
	},
	{
		"pass-rate",
		"1000",
		"how many requests a second one pass may make; 0 for any number",
		number(func(s *Settings) *int { return &s.PassRate }, 0, 1_000_000, "requests"),
	},
	{
		"body-limit",
		"4194304",
		"largest request of an agent, in bytes",
		size(func(s *Settings) *int { return &s.BodyLimit }, 1<<10, 256<<20),
	},
	{
		"message-limit",
		"16777216",
		"largest message of a server, in bytes",
		size(func(s *Settings) *int { return &s.MessageLimit }, 1<<10, 256<<20),
	},
	{
		"call-timeout",
		"5m",
		"how long a tool may take",
		span(func(s *Settings) *time.Duration { return &s.CallTimeout }, time.Second, 24*time.Hour),
	},
	{
		"poll",
		"1m",
		"how often tool lists are read again where a server does not tell of changes",
		span(func(s *Settings) *time.Duration { return &s.Poll }, time.Second, 24*time.Hour),
	},
	{
		"checkup-every",
		"6h",
		"how often a server with an address is looked at closely, although nothing fails; 0s for never. Programs are not: a checkup starts another process",
		span(func(s *Settings) *time.Duration { return &s.CheckupEvery }, 0, 30*24*time.Hour),
	},
	{
		"processes",
		"on",
		"off: no server may be a command that is started where the service runs",
		oneOf(func(s *Settings) *string { return &s.Processes }, "on", "off"),
	},
	{
		"altered-programs",
		"tell",
		"when the program or script of a running process changed: tell, or restart, once it answers, by itself",
		oneOf(func(s *Settings) *string { return &s.AlteredPrograms }, "tell", "restart"),
	},
	{
		"recorder",
		"on",
		"off: the flight recorder keeps nothing of what goes between Bouncer and servers, and there are no tapes of failures",
		oneOf(func(s *Settings) *string { return &s.Recorder }, "on", "off"),
	},
	{
		"process-user",
		"",
		"user that the processes of servers run as, by name or number, which only root can do; if left out, the service's own, or nobody when that is root",
		func(s *Settings, v string) error { s.ProcessUser = v; return nil },
	},
	{
		"trusted-proxies",
		"",
		"address ranges of proxies in front of the service, like 10.0.0.0/8, whose X-Forwarded-For says where people come from; none if left out",
		ranges(func(s *Settings) *[]netip.Prefix { return &s.Proxies }),
	},
	{
		"private-ranges",
		"",
		"private address ranges that sign-ins at servers may lead to, like 10.0.0.0/8,127.0.0.0/8; none if left out",
		ranges(func(s *Settings) *[]netip.Prefix { return &s.Private }),
	},
	{
		"address-passes",
		"off",
		"on: agents that can set no header may be given an address with a pass in it",
		func(s *Settings, v string) error {
			s.AddressPasses = v == "on"
			if v != "on" && v != "off" {
				return fmt.Errorf("is %q; it must be on or off", v)
			}
			return nil
		},
	},
	{
		"held-notices",
		"",
		"address that is told, signed, of held calls and what became of them; none if left out",
		func(s *Settings, v string) error {
			if v != "" {
				if err := endpoint.CheckEndpoint(v); err != nil {
					return err
				}
			}
			s.HeldNotices = v
			return nil
		},
	},
	{
		"incident-notices",
		"",
		"address that is told, signed, of incidents when they begin and end; none if left out",
		func(s *Settings, v string) error {
			if v != "" {
				if err := endpoint.CheckEndpoint(v); err != nil {
					return err
				}
			}
			s.IncidentNotices = v
			return nil
		},
	},
	{
		"mail-server",
		"",
		"mail server by which people are told what they want to be told of: smtp://HOST:PORT, or smtps://HOST:PORT; none if left out",
		func(s *Settings, v string) error {
			s.Mail.Server = v
			if v == "" {
				return nil
			}
			return mail.CheckServer(v)
		},
	},
	{
		"mail-from",
		"",
		"address that mail comes from, as in bouncer@skerrow.example",
		func(s *Settings, v string) error { s.Mail.From = v; return nil },
	},
	{
		"mail-user",
		"",
		"name by which the service signs in at the mail server; none if left out",
		func(s *Settings, v string) error { s.Mail.User = v; return nil },
	},
	{
		"mail-password",
		"",
		"where the password for that is read: env NAME or file PATH",
		source(func(s *Settings) *string { return &s.Mail.Password }, "the password itself"),
	},
	{
		"backup-dir",
		"",
		"directory in which copies of the state are made by themselves, opened to be sure of them, and thinned as they grow old; none if left out",
		func(s *Settings, v string) error { s.BackupDir = v; return nil },
	},
	{
		"backup-every",
		"6h",
		"how often that is done",
		span(func(s *Settings) *time.Duration { return &s.BackupEvery }, time.Minute, 7*24*time.Hour),
	},
	{
		"trace-to",
		"",
		"collector that is told of calls as traces, by OTLP over HTTP: its address without the path, as in http://127.0.0.1:4318; none if left out",
		func(s *Settings, v string) error {
			s.Trace.To = strings.TrimSuffix(v, "/")
			if v == "" {
				return nil
			}
			return endpoint.CheckEndpoint(v)
		},
	},
	{
		"trace-share",
		"1",
		"how many of the traces that begin here are told, from 0 to 1; those that an agent began are told as it says",
		func(s *Settings, v string) error {
			share, err := strconv.ParseFloat(v, 64)
			if err != nil || !(share >= 0 && share <= 1) {
				return fmt.Errorf("is %q; it must be a number from 0 to 1", v)
			}
			s.Trace.Share = share
			return nil
		},
	},
	{
		"trace-token",
		"",
		"where the token is read that the collector is shown: env NAME or file PATH; none if left out",
		source(func(s *Settings) *string { return &s.Trace.Token }, "the token itself"),
	},
	{
		"cluster",
		"",
		"NATS servers with JetStream that several nodes are one Bouncer by: nats://HOST:PORT or tls://HOST:PORT, with commas between; none if left out",
		func(s *Settings, v string) (err error) {
			s.Cluster.Servers = nil
			if v != "" {
				s.Cluster.Servers, err = readServers(v)
			}
			return err
		},
	},
	{
		"cluster-name",
		"bouncer",
		"which cluster it is, where several share the same servers",
		func(s *Settings, v string) error {
			if s.Cluster.Name = v; !nodeName.MatchString(v) {
				return fmt.Errorf("is %q; it must be small letters, digits and dashes", v)
			}
			return nil
		},
	},
	{
		"cluster-node",
		"",
		"name of this node; that of the machine if left out",
		func(s *Settings, v string) error {
			if s.Cluster.Node = v; v != "" && !nodeName.MatchString(v) {
				return fmt.Errorf("is %q; it must be small letters, digits and dashes", v)
			}
			return nil
		},
	},
	{
		"cluster-labels",
		"",
		"labels of this node, with commas between: processes that are placed at one of them run here",
		func(s *Settings, v string) error {
			s.Cluster.Labels = nil
			for _, label := range strings.Split(v, ",") {
				if label = strings.TrimSpace(label); label == "" {
					continue
				}
				if !serverspec.NodeLabel(label) {
					return fmt.Errorf("holds %q; labels are of small letters, digits and dashes", label)
				}
				s.Cluster.Labels = append(s.Cluster.Labels, label)
			}
			return nil
		},
	},
	{
		"cluster-credentials",
		"",
		"where is read what the servers are shown, which is a file of NATS credentials, user:password or a token: env NAME or file PATH",
		source(func(s *Settings) *string { return &s.Cluster.Credentials }, "what is shown"),
	},
	{
		"cluster-ca",
		"",
		"file of the certificates that those of the servers are signed by; those of the system if left out",
		func(s *Settings, v string) error { s.Cluster.Cert = v; return nil },
	},
	{
		"cluster-records",
		"256",
		"how much the cluster keeps of the records of calls of all nodes, so that a machine that is lost takes none with it, in MiB; 0 for nothing",
		number(func(s *Settings) *int { return &s.Cluster.Records }, 0, 1<<20, "MiB"),
	},
	{
		"alone-for",
		"60s",
		"how long a node that is cut off from the others goes on by what it knew, before it refuses calls",
		span(func(s *Settings) *time.Duration { return &s.Cluster.AloneFor }, time.Second, time.Hour),
	},
	{
		"metrics-listen",
		"",
		"address of its own at which metrics are told in the Prometheus text format, without a token: host:port; none if left out",
		func(s *Settings, v string) error {
			if v != "" {
				if _, _, err := net.SplitHostPort(v); err != nil {
					return fmt.Errorf("is %q; it must be like 127.0.0.1:4681", v)
				}
			}
			s.MetricsListen = v
			return nil
		},
	},
	{
		"metrics-token",
		"",
		"where the token is read that opens /metrics at the service's address: env NAME or file PATH; without it they are not there",
		source(func(s *Settings) *string { return &s.MetricsToken }, "the token itself"),
	},
	{
		"held-notices-key",
		"",
		"where the key for those signatures is read: env NAME or file PATH",
		source(func(s *Settings) *string { return &s.HeldNoticesKey }, "the key itself"),
	},
	{
		"oidc-issuer",
		"",
		"issuer of the identity provider where people sign in (OpenID Connect); none if left out",
		func(s *Settings, v string) error {
			if v != "" {
				if err := endpoint.CheckEndpoint(v); err != nil {
					return err
				}
			}
			s.OIDC.Issuer = v
			return nil
		},
	},
	{
		"oidc-client-id",
		"",
		"client id of Bouncer at the identity provider; its redirect address is public-url and /sign-in/callback",
		func(s *Settings, v string) error { s.OIDC.ClientID = v; return nil },
	},
	{
		"oidc-secret",
		"",
		"where the client's secret is read: env NAME or file PATH",
		source(func(s *Settings) *string { return &s.OIDC.Secret }, "the secret itself"),
	},
	{
		"oidc-name",
		"single sign-on",
		"what the identity provider is called in the console",
		func(s *Settings, v string) error { s.OIDC.Name = v; return nil },
	},
	{
		"oidc-groups",
		"",
		"roles of the identity provider's groups, like desk=admin,dispatch=maintainer; people in none of them are not let in",
		func(s *Settings, v string) error {
			s.OIDC.Groups = map[string]team.Role{}
			for _, part := range strings.Split(v, ",") {
				if part = strings.TrimSpace(part); part == "" {
					continue
				}
				group, role, ok := strings.Cut(part, "=")
				if !ok || !slices.Contains(team.Roles, team.Role(role)) {
					return fmt.Errorf("holds %q; it must be group=role with the role admin, maintainer, member or auditor", part)
				}
				s.OIDC.Groups[group] = team.Role(role)
			}
			return nil
		},
	},
	{"log-level", "info", "debug, info, warn or error", func(s *Settings, v string) error {
		if !slices.Contains([]string{"debug", "info", "warn", "error"}, v) {
			return fmt.Errorf("is %q; it must be debug, info, warn or error", v)
		}
		return s.LogLevel.UnmarshalText([]byte(v))
	}},
	{"log-format", "text", "text or json", oneOf(func(s *Settings) *string { return &s.LogFormat }, "text", "json")},
	{
		"first-admin",
		"admin",
		"name of the admin that the first start creates",
		func(s *Settings, v string) error { s.FirstAdmin = v; return nil },
	},
	{
		"first-password",
		"",
		"where the first admin's password is read: env NAME, file PATH or stdin; a one-time password is shown if left out",
		func(s *Settings, v string) error {
			if v != "" && v != "stdin" && (locker.CheckSource(v) != nil || strings.HasPrefix(v, "command ")) {
				return errors.New("must look like env NAME, file /PATH or stdin; the password itself does not belong here")
			}
			s.FirstPassword = v
			return nil
		},
	},
}

// processUser is the user that processes run as: as root they do not run as root,
// unless that was asked for.
func (s Settings) processUser() string {
	if s.ProcessUser == "" && os.Getuid() == 0 {
		return "nobody"
	}
	return s.ProcessUser
}

// Table returns a copy of the table of settings.
func Table() []Setting { return slices.Clone(table) }

func defaultData() string {
	if dir, err := os.UserHomeDir(); err == nil {
		return filepath.Join(dir, ".local", "share", "bouncer")
	}
	return "bouncer-data"
}

// LoadSettings takes each setting from the flags, else the environment, else
// the YAML file, else its default. Unknown keys and bad values are a
// *SettingError.
func LoadSettings(flags map[string]string, getenv func(string) string, file string) (Settings, error) {
	s, _, err := ReadSettings(flags, getenv, file)
	return s, err
}

// Given is a setting as it is in force, and where it comes from.
type Given struct {
	Setting
	Value, From string
}

// ReadSettings is LoadSettings, and tells where each setting comes from.
func ReadSettings(flags map[string]string, getenv func(string) string, file string) (s Settings, given []Given, err error) {
	inFile, err := readFile(file)
	if err != nil {
		return s, nil, err
	}
	for _, t := range table {
		value, from := t.Default, "default"
		if v, ok := inFile[t.Key]; ok {
			value, from = v, file
		}
		if v := getenv(t.Env()); v != "" {
			value, from = v, "environment "+t.Env()
		}
		if v, ok := flags[t.Key]; ok {
			value, from = v, "flag --"+t.Key
		}
		if err := t.set(&s, value); err != nil {
			return s, given, &SettingError{t.Key, from, err.Error()}
		}
		given = append(given, Given{t, value, from})
	}
	if s.Keys == "" {
		s.Keys = filepath.Join(s.Data, "locker.keys")
	}
	if s.OIDC.Issuer != "" && s.OIDC.ClientID == "" {
		return s, given, &SettingError{"oidc-client-id", "default", "is missing; the identity provider has to know Bouncer"}
	}
	return s, given, nil
}

func readFile(file string) (map[string]string, error) {
	if file == "" {
		return nil, nil
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, &SettingError{"config", "flag --config", "names a file that cannot be read: " + err.Error()}
	}
	var nodes map[string]yaml.Node
	dec := yaml.NewDecoder(bytes.NewReader(raw))
	if err := dec.Decode(&nodes); err != nil && !errors.Is(err, io.EOF) {
		return nil, &SettingError{"config", file, "is not a YAML map of settings: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	out := map[string]string{}
	for key, node := range nodes {
		if !slices.ContainsFunc(table, func(t Setting) bool { return t.Key == key }) {
			return nil, &SettingError{
				key,
				file,
				fmt.Sprintf("is unknown (line %d); the settings are %s", node.Line, strings.Join(keys(), ", ")),
			}
		}
		if node.Kind != yaml.ScalarNode {
			return nil, &SettingError{key, file, fmt.Sprintf("must be a single value (line %d)", node.Line)}
		}
		out[key] = node.Value
	}
	return out, nil
}

func keys() []string {
	var out []string
	for _, t := range table {
		out = append(out, t.Key)
	}
	return out
}
