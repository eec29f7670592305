package dialect

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"bouncer/internal/core/configfile"
)

// Learned is a dialect that was worked out from a file.
type Learned struct {
	Dialect Dialect
	Entries []Entry
	// Guessed says what no entry of the file showed.
	Guessed []string
	score   int
}

// Words that fields are commonly called by. What is called otherwise is known by its
// shape.
var (
	urlWords     = []string{"url", "uri", "endpoint", "address", "serverurl", "httpurl", "baseurl", "server", "href", "location"}
	commandWords = []string{
		"command",
		"cmd",
		"exec",
		"executable",
		"program",
		"run",
		"bin",
		"binary",
		"start",
		"launch",
		"path",
		"entrypoint",
	}
	argsWords   = []string{"args", "arguments", "argv", "params", "parameters", "options"}
	envWords    = []string{"env", "environment", "envs", "vars", "variables", "environ", "environmentvariables"}
	headerWords = []string{"headers", "httpheaders", "requestheaders", "header", "extraheaders", "customheaders"}
	typeWords   = []string{"type", "transport", "kind", "protocol", "mode", "transporttype"}
	dirWords    = []string{"cwd", "dir", "workdir", "workingdirectory", "workingdir", "directory"}
	nameWords   = []string{"name", "id", "key", "label", "title", "servername", "alias"}
	offWords    = []string{"disabled", "off", "disable", "inactive", "paused"}
	onWords     = []string{"enabled", "on", "active", "enable", "isactive"}
	kindWords   = []string{
		"http", "https", "streamablehttp", "sse", "remote", "url", "web", "stdio", "local", "process", "command", "subprocess", "websocket",
	}
	// holderWords are in the names of what holds servers, and otherWords of what holds
	// something else that has commands too.
	holderWords = []string{"mcp", "server", "tool", "connection", "connector", "integration", "extension", "context", "plugin"}
	otherWords  = []string{
		"task", "script", "hook", "launch", "configuration", "formatter", "linter", "lsp", "language", "terminal", "profile", "shell",
		"job", "snippet", "keybinding", "theme", "debug", "provider", "model",
	}
)

func bare(key string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, key)
}

func among(key string, words []string) bool { return slices.Contains(words, bare(key)) }

// Learn works out the dialects that a file may be in, the likeliest first. There is none
// when no entry is found: a map with an address, or with a command.
func Learn(f *configfile.File, name string) []Learned {
	l := learner{file: f, name: name}
	l.walk(f.Root, nil, 0)
	slices.SortStableFunc(l.found, func(a, b Learned) int { return b.score - a.score })
	return l.found
}

type learner struct {
	file  *configfile.File
	name  string
	found []Learned
}

func (l *learner) walk(n *configfile.Node, path Path, depth int) {
	if depth > 8 {
		return
	}
	switch n.Kind {
	case configfile.Map:
		if l.holds(n, path) {
			return
		}
		for _, p := range n.Pairs {
			l.walk(p.Value, append(slices.Clone(path), p.Key), depth+1)
		}
	case configfile.List:
		l.holds(n, path)
	}
}

// holds looks whether a map or a list holds servers, and keeps what it learns of them.
func (l *learner) holds(n *configfile.Node, path Path) bool {
	type member struct {
		name string
		node *configfile.Node
	}
	var all []member
	for _, p := range n.Pairs {
		all = append(all, member{p.Key, p.Value})
	}
	for _, item := range n.Items {
		all = append(all, member{"", item})
	}
	var shapes []shape
	maps := 0
	for _, m := range all {
		if m.node.Kind != configfile.Map {
			if len(n.Pairs) > 0 && m.node.Kind != configfile.Null {
				return false // something else stands among them
			}
			continue
		}
		maps++
		if several(m.node) {
			return false // a member holds servers itself
		}
		if s, ok := shapeOf(m.node); ok {
			shapes = append(shapes, s)
		}
	}
	if !alike(shapes) {
		return false // they hold servers themselves
	}
	if len(shapes) == 0 || len(shapes)*2 < maps || len(path) == 0 && n.Kind == configfile.List {
		return false
	}
	learned := Learned{Dialect: Dialect{Name: l.name, Syntax: l.file.Syntax, Servers: path, Restart: true}}
	if n.Kind == configfile.List {
		key := nameField(n)
		if key == "" {
			return false
		}
		learned.Dialect.List = key
	}
	learned.merge(shapes)
	if learned.Dialect.Check() != nil {
		return false
	}
	learned.Entries = learned.Dialect.Entries(l.file)
	learned.score = rate(path, shapes)
	l.found = append(l.found, learned)
	return true
}

// nestWords are what a map inside of an entry is called.
var nestWords = []string{
	"transport", "config", "connection", "settings", "spec", "process", "remote", "local", "http", "stdio", "server", "command",
}

// alike reports whether entries that are written on in a map inside of them have that map
// in common: else it is the name of a server, and they hold servers.
func alike(shapes []shape) bool {
	nest := ""
	for _, s := range shapes {
		key := s.nest()
		if key == "" {
			continue
		}
		if nest != "" && nest != key {
			return false
		}
		nest = key
	}
	return nest == "" || len(shapes) > 1 || among(nest, nestWords)
}

// nest is the map inside of the entry in which its address or its command stands; "" for
// none.
func (s shape) nest() string {
	path := ""
	if s.command != nil {
		path = s.command.Command
	} else if s.remote != nil {
		path = s.remote.URL
	}
	key, _, deeper := strings.Cut(path, ".")
	if !deeper {
		return ""
	}
	return key
}

// rate says how likely it is that servers are held there.
func rate(path Path, shapes []shape) int {
	score := min(len(shapes), 5) - 2*max(0, len(path)-2)
	for i, key := range path {
		word := bare(key)
		for _, good := range holderWords {
			if strings.Contains(word, good) {
				score += 4
			}
		}
		for _, other := range otherWords {
			if strings.Contains(word, other) && i == len(path)-1 {
				score -= 8
			}
		}
		if strings.ContainsAny(key, "/\\") {
			score -= 6 // of one project, say
		}
	}
	for _, s := range shapes {
		score += min(s.known, 3)
	}
	return score
}

// nameField is the field that tells the items of a list apart: the same text in none
// of them.
func nameField(n *configfile.Node) string {
	var candidates []string
	for _, p := range n.Items[0].Pairs {
		if _, ok := p.Value.Text(); ok {
			candidates = append(candidates, p.Key)
		}
	}
	slices.SortStableFunc(candidates, func(a, b string) int { return nameRank(a) - nameRank(b) })
	for _, key := range candidates {
		if among(key, commandWords) || among(key, urlWords) || among(key, typeWords) {
			continue
		}
		seen := map[string]bool{}
		for _, item := range n.Items {
			text, ok := item.Get(key).Text()
			if !ok || seen[text] || isURL(text) {
				seen = nil
				break
			}
			seen[text] = true
		}
		if len(seen) > 0 {
			return key
		}
	}
	return ""
}

func nameRank(key string) int {
	if at := slices.Index(nameWords, bare(key)); at >= 0 {
		return at
	}
	return len(nameWords)
}

// shape is how one entry is written.
type shape struct {
	remote  *Remote
	command *Command
	off     *Off
	word    *Word
	// reference is how a variable is named in one of its values.
	reference string
	known     int // fields that are called by a common word
}

func isURL(text string) bool {
	at, err := url.Parse(strings.TrimSpace(text))
	return err == nil && (at.Scheme == "http" || at.Scheme == "https") && at.Host != ""
}

// flat is a field of an entry, with the maps inside of it taken apart, but for those
// that are maps of texts.
type flat struct {
	path string
	last string
	node *configfile.Node
}

func flatten(n *configfile.Node, prefix string, depth int) (out []flat) {
	for _, p := range n.Pairs {
		path := prefix + p.Key
		out = append(out, flat{path, p.Key, p.Value})
		if p.Value.Kind == configfile.Map && depth < 1 && !strings.Contains(p.Key, ".") {
			out = append(out, flatten(p.Value, path+".", depth+1)...)
		}
	}
	return out
}

// shapeOf tells how an entry is written; ok is false for what is no server.
func shapeOf(n *configfile.Node) (s shape, ok bool) {
	if several(n) {
		return s, false
	}
	fields := flatten(n, "", 0)
	s.findCommand(fields)
	if s.command == nil {
		s.findURL(fields)
	}
	if s.remote == nil && s.command == nil {
		return s, false
	}
	for _, f := range fields {
		s.further(f)
	}
	return s, true
}

// several reports whether a map has several maps inside that are servers each.
func several(n *configfile.Node) bool {
	servers := 0
	for _, p := range n.Pairs {
		if p.Value.Kind != configfile.Map || among(p.Key, envWords) || among(p.Key, headerWords) {
			continue
		}
		var s shape
		var direct []flat
		for _, inner := range p.Value.Pairs {
			direct = append(direct, flat{inner.Key, inner.Key, inner.Value})
		}
		if s.findCommand(direct); s.command == nil {
			s.findURL(direct)
		}
		if s.command != nil || s.remote != nil {
			servers++
		}
	}
	return servers > 1
}

// findURL looks for the field with the address: one called so first.
func (s *shape) findURL(fields []flat) {
	best, rank := "", 1<<30
	for _, f := range fields {
		text, ok := f.node.Text()
		if !ok || !isURL(text) || inside(f.path, fields) {
			continue
		}
		r := slices.Index(urlWords, bare(f.last))
		if r < 0 {
			r = len(urlWords) + strings.Count(f.path, ".")
		}
		if r < rank {
			best, rank = f.path, r
		}
	}
	if best == "" {
		return
	}
	s.remote = &Remote{URL: best}
	if rank < len(urlWords) {
		s.known++
	}
}

// inside reports whether a field stands in a map of variables or headers.
func inside(path string, fields []flat) bool {
	for _, f := range fields {
		isValues := among(f.last, envWords) || among(f.last, headerWords)
		if isValues && strings.HasPrefix(path, f.path+".") {
			return true
		}
	}
	return false
}

// findCommand looks for the field with the command: one called so, or a text beside a
// list of texts.
func (s *shape) findCommand(fields []flat) {
	best, rank := flat{}, 1<<30
	for _, f := range fields {
		if inside(f.path, fields) {
			continue
		}
		text, isText := f.node.Text()
		isList := isTexts(f.node)
		if (!isText || text == "" || isURL(text)) && !isList {
			continue
		}
		r := slices.Index(commandWords, bare(f.last))
		if r >= 0 && isText && bare(f.last) == "path" && !strings.ContainsAny(text, "/\\") {
			r = -1
		}
		if r >= 0 && r < rank {
			best, rank = f, r
		}
	}
	args := argsOf(fields, best.path)
	hasURL := slices.ContainsFunc(fields, func(f flat) bool { t, ok := f.node.Text(); return ok && isURL(t) })
	if best.path == "" && args.path != "" && !hasURL {
		// A text beside a list that is called args, whatever the text is called.
		for _, f := range fields {
			text, ok := f.node.Text()
			if ok && text != "" && !among(f.last, typeWords) && !among(f.last, nameWords) && !among(f.last, dirWords) &&
				!inside(f.path, fields) &&
				strings.Count(f.path, ".") == strings.Count(args.path, ".") {
				best = f
				break
			}
		}
	}
	if best.path == "" {
		return
	}
	s.command = &Command{Command: best.path, Joined: isTexts(best.node)}
	if rank < len(commandWords) {
		s.known++
	}
	if args.path != "" && !s.command.Joined {
		s.command.Args = args.path
		s.known++
	}
}

// argsOf is the list of texts that is called arguments.
func argsOf(fields []flat, command string) flat {
	for _, f := range fields {
		if f.path != command && among(f.last, argsWords) && (isTexts(f.node) || f.node.Kind == configfile.List && len(f.node.Items) == 0) {
			return f
		}
	}
	return flat{}
}

func isTexts(n *configfile.Node) bool {
	return n.Kind == configfile.List && len(n.Items) > 0 && !slices.ContainsFunc(n.Items, func(i *configfile.Node) bool {
		return i.Kind != configfile.Scalar
	})
}

var upper = regexp.MustCompile(`^[A-Z][A-Z0-9_]+$`)

// further takes up a field that says something else of the entry.
func (s *shape) further(f flat) {
	text, isText := f.node.Text()
	_, isTruth := f.node.Bool()
	switch {
	case s.command != nil && s.command.Env == "" && isValues(f.node, "=") && (among(f.last, envWords) || allUpper(f.node)):
		s.command.Env, s.known = f.path, s.known+1
		if f.node.Kind == configfile.List {
			s.command.Form = FormLines
		}
	case s.remote != nil && s.remote.Headers == "" && among(f.last, headerWords) && isValues(f.node, ":"):
		s.remote.Headers, s.known = f.path, s.known+1
		s.remote.Form = formOf(f.node)
	case s.command != nil && s.command.Dir == "" && among(f.last, dirWords) && isText:
		s.command.Dir = f.path
	case isText && s.word == nil && among(f.last, typeWords) && slices.Contains(kindWords, bare(text)):
		s.word = &Word{f.path, text}
	case isTruth && s.off == nil && among(f.last, offWords):
		s.off = &Off{Field: f.path}
	case isTruth && s.off == nil && among(f.last, onWords):
		s.off = &Off{Field: f.path, Inverse: true}
	}
	if s.reference == "" {
		for _, n := range append([]*configfile.Node{f.node}, f.node.Items...) {
			if text, ok := n.Text(); ok {
				s.reference = referenceIn(text, s.reference)
			}
		}
	}
}

var references = []*regexp.Regexp{
	regexp.MustCompile(`\$\{([A-Za-z]+:)?([A-Z][A-Z0-9_]*)\}`),
	regexp.MustCompile(`\{(env:)([A-Z][A-Z0-9_]*)\}`),
	regexp.MustCompile(`(%)([A-Z][A-Z0-9_]*)%`),
	regexp.MustCompile(`(\$)([A-Z][A-Z0-9_]*)\b`),
}

// referenceIn finds how a value names a variable of the environment.
func referenceIn(text, have string) string {
	for _, r := range references {
		if at := r.FindStringSubmatchIndex(text); at != nil && have == "" {
			whole := text[at[0]:at[1]]
			name := text[at[4]:at[5]]
			if strings.Contains(whole, "input:") || strings.Contains(whole, "prompt:") {
				continue
			}
			return strings.Replace(whole, name, "NAME", 1)
		}
	}
	return have
}

// isValues reports whether a node is names with values.
func isValues(n *configfile.Node, sep string) bool {
	switch n.Kind {
	case configfile.Map:
		return !slices.ContainsFunc(n.Pairs, func(p configfile.Pair) bool {
			return p.Value.Kind == configfile.Map || p.Value.Kind == configfile.List
		})
	case configfile.List:
		return len(n.Items) > 0 && !slices.ContainsFunc(n.Items, func(i *configfile.Node) bool {
			text, ok := i.Text()
			_, _, isPair := pair(i)
			return !isPair && (!ok || !strings.Contains(text, sep))
		})
	}
	return false
}

func allUpper(n *configfile.Node) bool {
	return n.Kind == configfile.Map && len(n.Pairs) > 0 && !slices.ContainsFunc(n.Pairs, func(p configfile.Pair) bool {
		return !upper.MatchString(p.Key)
	})
}

func formOf(n *configfile.Node) string {
	if n.Kind != configfile.List {
		return ""
	}
	if len(n.Items) > 0 && n.Items[0].Kind == configfile.Map {
		return FormPairs
	}
	return FormLines
}

// merge makes one dialect of the shapes of all entries; what differs between them is
// taken from the first that has it.
func (l *Learned) merge(shapes []shape) {
	d := &l.Dialect
	var remoteWord, commandWord *Word
	for _, s := range shapes {
		if r := s.remote; r != nil {
			if d.Remote == nil {
				d.Remote = &Remote{URL: r.URL}
			}
			if d.Remote.Headers == "" {
				d.Remote.Headers, d.Remote.Form = r.Headers, r.Form
			}
			if remoteWord == nil || bare(remoteWord.Word) == "sse" {
				remoteWord = firstWord(s.word, remoteWord)
			}
		}
		if c := s.command; c != nil {
			if d.Command == nil {
				d.Command = &Command{Command: c.Command, Joined: c.Joined}
			}
			take(&d.Command.Args, c.Args)
			take(&d.Command.Dir, c.Dir)
			if d.Command.Env == "" {
				d.Command.Env, d.Command.Form = c.Env, c.Form
			}
			commandWord = firstWord(commandWord, s.word)
		}
		if d.Off == nil {
			d.Off = s.off
		}
		take(&d.Reference, s.reference)
	}
	if d.Command != nil {
		d.Command.Type = commandWord
		if d.Command.Joined {
			d.Command.Args = ""
		}
		l.guessCommand(d.Command)
	}
	l.guessRemote(remoteWord, commandWord)
}

func firstWord(a, b *Word) *Word {
	if a != nil {
		return a
	}
	return b
}

func take(to *string, from string) {
	if *to == "" {
		*to = from
	}
}

func (l *Learned) guessCommand(c *Command) {
	if c.Args == "" && !c.Joined {
		c.Args = beside(c.Command, "args")
		l.Guessed = append(l.Guessed, "arguments go into "+c.Args)
	}
	if c.Env == "" {
		c.Env = beside(c.Command, "env")
		l.Guessed = append(l.Guessed, "variables go into "+c.Env)
	}
}

// guessRemote fills in what no entry with an address showed.
func (l *Learned) guessRemote(word, commandWord *Word) {
	d := &l.Dialect
	if d.Remote == nil {
		d.Remote = &Remote{URL: beside(d.Command.Command, "url"), Headers: beside(d.Command.Command, "headers")}
		l.Guessed = append(l.Guessed, "no entry has an address: it goes into "+d.Remote.URL+", and headers into "+d.Remote.Headers)
		if commandWord != nil {
			d.Remote.Type = &Word{commandWord.Field, "http"}
			l.Guessed = append(l.Guessed, "the word for an address in "+commandWord.Field+" is http")
		}
		return
	}
	if word != nil && bare(word.Word) == "sse" {
		word = &Word{word.Field, "http"}
		l.Guessed = append(l.Guessed, "the word for streamable HTTP in "+word.Field+" is http")
	}
	d.Remote.Type = word
	if d.Remote.Headers == "" {
		d.Remote.Headers = beside(d.Remote.URL, "headers")
		l.Guessed = append(l.Guessed, "headers go into "+d.Remote.Headers)
	}
}

// beside is a field in the same map as another one.
func beside(path, name string) string {
	if at := strings.LastIndexByte(path, '.'); at >= 0 {
		return path[:at+1] + name
	}
	return name
}

// RemoteGuessed reports whether how an address is written was not seen in the file, so
// that an entry with a command is the safer one.
func (l Learned) RemoteGuessed() bool {
	return slices.ContainsFunc(l.Guessed, func(g string) bool { return strings.HasPrefix(g, "no entry has an address") })
}

// Clear reports whether this is so much likelier than another one that nobody needs to
// be asked.
func (l Learned) Clear(other Learned) bool { return l.score >= other.score+4 }
