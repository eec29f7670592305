// Package paste reads what people have at hand when they register a server: the JSON of
// a README or of an assistant's configuration, in its usual shapes and with its usual
// mistakes, a command line, or an address. It says what it made of it, and which values
// look like secrets or only stand for one.
package paste

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/looks"
)

// Value is a variable, a header or a query parameter.
type Value struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	// Secret says why the value looks like a secret; "" when it does not.
	Secret string `json:"secret,omitempty" doc:"why it looks like a secret; it goes to the locker"`
	Asked  bool   `json:"asked,omitempty" doc:"it only stands for a value, which has to be given"`
}

// Server is one server as it was read.
type Server struct {
	Name      string   `json:"name"`
	Command   string   `json:"command,omitempty"`
	Args      []string `json:"args,omitempty"`
	Dir       string   `json:"dir,omitempty"`
	Env       []Value  `json:"env,omitempty"`
	URL       string   `json:"url,omitempty"`
	Transport string   `json:"transport,omitempty"`
	Headers   []Value  `json:"headers,omitempty"`
	Query     []Value  `json:"query,omitempty" doc:"parameters of the address that look like secrets"`
	Notes     []string `json:"notes,omitempty" doc:"what was noticed and mended"`
}

// MaxText is the longest text that is read, in bytes, and MaxServers how many servers it
// may hold.
const (
	MaxText    = 256 << 10
	MaxServers = 50
)

// Read reads what was pasted. notes are about the text as a whole.
func Read(text string) (servers []Server, notes []string, err error) {
	if len(text) > MaxText {
		return nil, nil, fmt.Errorf("it is longer than %d KiB", MaxText>>10)
	}
	text = strings.TrimSpace(strings.TrimPrefix(text, "\ufeff"))
	if inner, ok := fenced(text); ok {
		text, notes = inner, append(notes, "the fence of the code block around it was taken off")
	}
	switch {
	case text == "":
		return nil, nil, errors.New("there is nothing in it")
	case strings.HasPrefix(text, "[") && len(readFile(text)) > 0:
		servers = readFile(text) // a table of TOML, and no list of JSON
	case strings.HasPrefix(text, "{"), strings.HasPrefix(text, "["), strings.HasPrefix(text, `"`), strings.HasPrefix(text, "//"),
		strings.HasPrefix(text, "/*"):
		servers, notes, err = readJSON(text, notes)
	case strings.HasPrefix(text, "http://"), strings.HasPrefix(text, "https://"):
		if strings.ContainsAny(text, " \n\t") {
			return nil, nil, errors.New("it begins like an address, and something follows; paste the address alone, or a command line")
		}
		servers = []Server{{URL: text}}
	default:
		if servers = readFile(text); len(servers) > 0 {
			break
		}
		var s Server
		s, err = readCommand(text)
		servers = []Server{s}
	}
	if err != nil {
		return nil, notes, err
	}
	if len(servers) > MaxServers {
		return nil, notes, fmt.Errorf("it holds more than %d servers", MaxServers)
	}
	names := map[string]bool{}
	for i := range servers {
		servers[i].finish(names)
	}
	return servers, notes, nil
}

// readFile reads servers from a configuration file in YAML or TOML; none for what is no
// such file.
func readFile(text string) (out []Server) {
	if !strings.Contains(text, "\n") {
		return nil
	}
	for _, syntax := range []configfile.Syntax{configfile.TOML, configfile.YAML} {
		f, err := configfile.Parse([]byte(text), syntax)
		if err != nil || f.Root.Kind != configfile.Map {
			continue
		}
		learned := dialect.Learn(f, "pasted")
		if len(learned) == 0 {
			continue
		}
		for _, e := range learned[0].Entries {
			if e.URL == "" && e.Command == "" {
				continue
			}
			s := Server{Name: e.Name, Command: e.Command, Args: e.Args, Dir: e.Dir, URL: e.URL, Notes: e.Notes}
			if strings.EqualFold(e.Type, "sse") {
				s.Transport = "sse"
			}
			for _, v := range e.Env {
				s.Env = append(s.Env, Value{Name: v.Name, Value: v.Value})
			}
			for _, v := range e.Headers {
				s.Headers = append(s.Headers, Value{Name: v.Name, Value: v.Value})
			}
			out = append(out, s)
		}
		return out
	}
	return nil
}

var fence = regexp.MustCompile("(?s)^```[a-z]*\\s*\n(.*?)\n?```$")

func fenced(text string) (string, bool) {
	if m := fence.FindStringSubmatch(text); m != nil {
		return strings.TrimSpace(m[1]), true
	}
	return text, false
}

// readJSON reads servers from JSON in any of its usual shapes.
func readJSON(text string, notes []string) ([]Server, []string, error) {
	var whole any
	plain, mended := Mend(text)
	if err := json.Unmarshal(configfile.Plain([]byte(plain)), &whole); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			at := min(int(syntax.Offset), len(plain))
			line := 1 + strings.Count(plain[:at], "\n")
			return nil, notes, fmt.Errorf("it is no JSON: line %d: %s", line, syntax.Error())
		}
		return nil, notes, fmt.Errorf("it is no JSON: %w", err)
	}
	notes = append(notes, mended...)
	entries := find(whole, "")
	if len(entries) == 0 {
		return nil, notes, errors.New("there is no server in it: an object with a command or a url")
	}
	var out []Server
	for _, e := range entries {
		s, err := e.server()
		if err != nil {
			return nil, notes, fmt.Errorf("server %q: %w", e.name, err)
		}
		out = append(out, s)
	}
	return out, notes, nil
}

// Mend closes what was left open, and puts braces around members without an object.
func Mend(text string) (string, []string) {
	var notes []string
	if strings.HasPrefix(text, `"`) {
		text, notes = "{"+strings.TrimSuffix(strings.TrimSpace(text), ",")+"}", append(notes, "the braces around it were missing")
	}
	var open []byte
	inText, escaped := false, false
	for i := range len(text) {
		c := text[i]
		switch {
		case escaped:
			escaped = false
		case inText && c == '\\':
			escaped = true
		case c == '"':
			inText = !inText
		case inText:
		case c == '{':
			open = append(open, '}')
		case c == '[':
			open = append(open, ']')
		case (c == '}' || c == ']') && len(open) > 0 && open[len(open)-1] == c:
			open = open[:len(open)-1]
		}
	}
	if len(open) > 0 && len(open) <= 6 && !inText {
		slices.Reverse(open)
		text = strings.TrimRight(text, " \t\r\n,") + string(open)
		notes = append(notes, "the end was missing, and "+string(open)+" was added")
	}
	return text, notes
}

// entry is one server as JSON.
type entry struct {
	name string
	v    map[string]any
}

// find looks for servers: an object with a command or an address is one, and maps and
// lists are looked into, those that are named for servers first.
func find(v any, name string) []entry {
	switch v := v.(type) {
	case []any:
		var out []entry
		for _, item := range v {
			out = append(out, find(item, "")...)
		}
		return out
	case map[string]any:
		if isServer(v) {
			if own, ok := v["name"].(string); ok && own != "" {
				name = own
			}
			return []entry{{name, v}}
		}
		for _, key := range []string{"mcpServers", "servers", "mcp", "context_servers"} {
			if inner, ok := v[key]; ok {
				if out := find(inner, ""); len(out) > 0 {
					return out
				}
			}
		}
		var out []entry
		keys := make([]string, 0, len(v))
		for key := range v {
			keys = append(keys, key)
		}
		sort.Strings(keys)
		for _, key := range keys {
			if _, isMap := v[key].(map[string]any); isMap {
				out = append(out, find(v[key], key)...)
			}
		}
		return out
	}
	return nil
}

var addressKeys = []string{"url", "serverUrl", "httpUrl", "endpoint"}

func isServer(v map[string]any) bool {
	if _, ok := v["command"]; ok {
		return true
	}
	return slices.ContainsFunc(addressKeys, func(key string) bool { s, ok := v[key].(string); return ok && strings.Contains(s, "://") })
}

// server turns JSON into a server.
func (e entry) server() (Server, error) {
	s := Server{Name: e.name}
	switch command := e.v["command"].(type) {
	case string:
		s.Command = command
	case []any: // command and arguments in one list
		for i, word := range texts(command) {
			if i == 0 {
				s.Command = word
			} else {
				s.Args = append(s.Args, word)
			}
		}
	case nil:
	default:
		return s, errors.New("command is no text")
	}
	if args, ok := e.v["args"].([]any); ok {
		s.Args = append(s.Args, texts(args)...)
	} else if line, ok := e.v["args"].(string); ok {
		words, err := split(line)
		if err != nil {
			return s, err
		}
		s.Args, s.Notes = append(s.Args, words...), append(s.Notes, "the arguments stood in one text, and were taken apart")
	}
	if s.Command != "" && strings.ContainsAny(s.Command, " \t") && len(s.Args) == 0 {
		line, err := readCommand(s.Command)
		if err != nil {
			return s, err
		}
		line.Name, line.Notes = s.Name, append(line.Notes, "the command held a whole command line, and was taken apart")
		s = line
	}
	for _, key := range []string{"cwd", "dir", "workingDirectory"} {
		if dir, ok := e.v[key].(string); ok {
			s.Dir = dir
		}
	}
	for _, key := range []string{"env", "environment"} {
		s.Env = append(s.Env, values(e.v[key])...)
	}
	for _, key := range addressKeys {
		if at, ok := e.v[key].(string); ok && s.URL == "" {
			s.URL = at
		}
	}
	s.Headers = values(e.v["headers"])
	for _, key := range []string{"type", "transport"} {
		if kind, ok := e.v[key].(string); ok && strings.EqualFold(kind, "sse") {
			s.Transport = "sse"
		}
	}
	switch {
	case s.Command != "" && s.URL != "":
		return s, errors.New("it has a command and an address; take one away")
	case s.Command == "" && s.URL == "":
		return s, errors.New("its command is empty")
	}
	return s, nil
}

func texts(list []any) (out []string) {
	for _, item := range list {
		switch v := item.(type) {
		case string:
			out = append(out, v)
		default:
			raw, err := json.Marshal(v)
			if err == nil {
				out = append(out, string(raw))
			}
		}
	}
	return out
}

// values reads an object of texts, or a list of NAME=value.
func values(v any) (out []Value) {
	switch v := v.(type) {
	case map[string]any:
		for name, value := range v {
			out = append(out, Value{Name: name, Value: texts([]any{value})[0]})
		}
		sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	case []any:
		for _, pair := range texts(v) {
			name, value, _ := strings.Cut(pair, "=")
			out = append(out, Value{Name: name, Value: value})
		}
	}
	return out
}

var (
	assignment  = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_]*)=(.*)$`)
	continued   = regexp.MustCompile(`[\\^` + "`" + `]\s*\n\s*`)
	unspeakable = regexp.MustCompile(`[^a-z0-9]+`)
)

// readCommand reads a command line as a shell does, with the variables before it.
func readCommand(text string) (s Server, err error) {
	text = continued.ReplaceAllString(text, " ")
	var words []string
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		line = strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(line, "$ "), "> "))
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		some, err := split(line)
		if err != nil {
			return s, err
		}
		if len(some) > 1 && (some[0] == "export" || some[0] == "set") {
			some = some[1:]
		}
		if len(words) > 0 && !assignment.MatchString(words[len(words)-1]) {
			return s, errors.New("it has several command lines; paste one, with the variables before it")
		}
		words = append(words, some...)
	}
	for len(words) > 0 {
		m := assignment.FindStringSubmatch(words[0])
		if m == nil {
			break
		}
		s.Env, words = append(s.Env, Value{Name: m[1], Value: m[2]}), words[1:]
	}
	if len(words) == 0 || words[0] == "" {
		return s, errors.New("it has no command")
	}
	if slices.ContainsFunc(words, func(w string) bool { return w == "|" || w == "&&" || w == ";" || w == ">" }) {
		return s, errors.New("it is more than one command; a server is one program with its arguments")
	}
	s.Command, s.Args = words[0], words[1:]
	return s, nil
}

// split takes a line apart at blanks, as a shell does: quotes hold together, and a
// backslash takes the next character as it is.
func split(line string) (words []string, err error) {
	var word strings.Builder
	some, quote := false, byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote == '\'' && c != '\'', quote == '"' && c != '"' && c != '\\':
			word.WriteByte(c)
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '\'' || c == '"'):
			quote, some = c, true
		case c == '\\' && i+1 < len(line):
			i++
			word.WriteByte(line[i])
			some = true
		case c == ' ' || c == '\t':
			if some || word.Len() > 0 {
				words = append(words, word.String())
			}
			word.Reset()
			some = false
		default:
			word.WriteByte(c)
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("a quote (%c) is not closed", quote)
	}
	if some || word.Len() > 0 {
		words = append(words, word.String())
	}
	return words, nil
}

// finish names a server, takes variables out of its arguments and secrets out of its
// address, and marks what looks like a secret.
func (s *Server) finish(taken map[string]bool) {
	s.passOn()
	s.splitAddress()
	for _, list := range [][]Value{s.Env, s.Headers, s.Query} {
		for i := range list {
			v := &list[i]
			bare := v.Value
			if scheme, rest, ok := strings.Cut(bare, " "); ok && !strings.Contains(rest, " ") && len(scheme) < 12 {
				bare = rest // Bearer and its like
			}
			v.Asked = looks.Placeholder(bare) || looks.Placeholder(v.Value)
			v.Secret = looks.Secret(v.Name, bare)
		}
	}
	for i, arg := range s.Args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok && i > 0 && strings.HasPrefix(s.Args[i-1], "--") {
			name, value = s.Args[i-1], arg
		}
		if why := looks.Secret(strings.TrimLeft(name, "-"), value); why != "" {
			s.Notes = append(s.Notes, fmt.Sprintf(
				"the argument %s carries a secret (%s), which arguments cannot keep; see whether it can be a variable", name, why,
			))
		}
	}
	s.Name = s.nameOr(taken)
	taken[s.Name] = true
}

// passOn makes variables of what a container runner is told to set: -e NAME=value
// becomes -e NAME, which takes it from its own variables.
func (s *Server) passOn() {
	for i := 1; i < len(s.Args); i++ {
		m := assignment.FindStringSubmatch(s.Args[i])
		if m == nil || (s.Args[i-1] != "-e" && s.Args[i-1] != "--env") {
			continue
		}
		s.Args[i] = m[1]
		if !slices.ContainsFunc(s.Env, func(v Value) bool { return v.Name == m[1] }) {
			s.Env = append(s.Env, Value{Name: m[1], Value: m[2]})
		}
	}
}

func (s *Server) splitAddress() {
	at, err := url.Parse(s.URL)
	if s.URL == "" || err != nil {
		return
	}
	if strings.HasSuffix(at.Path, "/sse") && s.Transport == "" {
		s.Transport = "sse"
	}
	query := at.Query()
	for name, list := range query {
		if len(list) == 1 && (looks.Secret(name, list[0]) != "" || looks.Placeholder(list[0])) {
			s.Query = append(s.Query, Value{Name: name, Value: list[0]})
			query.Del(name)
		}
	}
	if len(s.Query) > 0 {
		at.RawQuery = query.Encode()
		s.URL = at.String()
		sort.Slice(s.Query, func(i, j int) bool { return s.Query[i].Name < s.Query[j].Name })
	}
}

// nameOr makes a name of the one that was given, else of the address or the command.
func (s *Server) nameOr(taken map[string]bool) string {
	from := s.Name
	if from == "" && s.URL != "" {
		if at, err := url.Parse(s.URL); err == nil {
			labels := strings.Split(at.Hostname(), ".")
			from = labels[0]
			if len(labels) > 2 && (from == "www" || from == "mcp" || from == "api") {
				from = labels[1]
			}
		}
	}
	if from == "" {
		from = s.program()
	}
	base := strings.Trim(unspeakable.ReplaceAllString(strings.ToLower(from), "-"), "-")
	if len(base) > 28 {
		base = strings.Trim(base[:28], "-")
	}
	if base == "" {
		base = "server"
	}
	name := base
	for i := 2; taken[name]; i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return name
}

// program is what the command is about: the package or the script rather than what
// runs it.
func (s *Server) program() string {
	for i, arg := range s.Args {
		before := ""
		if i > 0 {
			before = s.Args[i-1]
		}
		ofBefore := before == "-e" || before == "--env" || looks.Secret(strings.TrimLeft(before, "-"), arg) != ""
		if ofBefore || strings.HasPrefix(arg, "-") || assignment.MatchString(arg) || arg == "run" || arg == "exec" {
			continue
		}
		name := path.Base(arg)
		if cut := strings.LastIndex(name, "@"); cut > 0 {
			name = name[:cut]
		}
		return strings.TrimSuffix(strings.TrimSuffix(name, path.Ext(name)), ":latest")
	}
	return path.Base(s.Command)
}
