package serverspec

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
)

func fieldOf(t *testing.T, err error) string {
	t.Helper()
	if err == nil {
		return ""
	}
	var field *team.FieldError
	require.ErrorAs(t, err, &field)
	return field.Field
}

// Measures lie where they are said to lie: what is just acceptable is accepted, and one more is not.
func TestMeasuresOfAServer(t *testing.T) {
	t.Parallel()
	address, process := team.Server{Transport: team.StreamableHTTP}, team.Server{Transport: team.Stdio, Command: "berths"}
	many := func(n int, of string) []string { return slices.Repeat([]string{of}, n) }
	for name, row := range map[string]struct {
		of     team.Server
		alter  func(s *team.Server, n int)
		field  string
		bounds [2]int // the last that is accepted, and the first that is not
	}{
		"open files":    {process, func(s *team.Server, n int) { s.OpenFiles = n }, "openFiles", [2]int{16, 15}},
		"no open files": {process, func(s *team.Server, n int) { s.OpenFiles = n }, "openFiles", [2]int{0, 1}},
		"memory":        {process, func(s *team.Server, n int) { s.MemoryMiB = n }, "memoryMiB", [2]int{0, -1}},
		"processes":     {process, func(s *team.Server, n int) { s.Processes = n }, "memoryMiB", [2]int{0, -1}},
		"of addresses":  {address, func(s *team.Server, n int) { s.Processes = n }, "memoryMiB", [2]int{0, 1}},
		"headers":       {address, func(s *team.Server, n int) { s.Headers = many(n, "X-A: b") }, "headers", [2]int{50, 51}},
		"of processes":  {process, func(s *team.Server, n int) { s.Headers = many(n, "X-A: b") }, "headers", [2]int{0, 1}},
		"tool limits": {
			address, func(s *team.Server, n int) { s.ToolLimits = slices.Repeat([]team.ToolLimits{{Tool: "a"}}, n) }, "toolLimits", [2]int{100, 101},
		},
		"tool names":       {address, func(s *team.Server, n int) { s.ToolLimits = []team.ToolLimits{{Tool: strings.Repeat("t", n)}} }, "toolLimits", [2]int{200, 201}},
		"no tool name":     {address, func(s *team.Server, n int) { s.ToolLimits = []team.ToolLimits{{Tool: strings.Repeat("t", n)}} }, "toolLimits", [2]int{1, 0}},
		"messages":         {address, func(s *team.Server, n int) { s.MessageMiB = n }, "messageMiB", [2]int{256, 257}},
		"fewer messages":   {address, func(s *team.Server, n int) { s.MessageMiB = n }, "messageMiB", [2]int{0, -1}},
		"starting":         {address, func(s *team.Server, n int) { s.StartSeconds = n }, "startSeconds", [2]int{3600, 3601}},
		"starting at once": {address, func(s *team.Server, n int) { s.StartSeconds = n }, "startSeconds", [2]int{0, -1}},
		"calls":            {address, func(s *team.Server, n int) { s.CallSeconds = n }, "callSeconds", [2]int{maxCallSeconds, maxCallSeconds + 1}},
		"calls in no time": {address, func(s *team.Server, n int) { s.CallSeconds = n }, "callSeconds", [2]int{0, -1}},
		"results":          {address, func(s *team.Server, n int) { s.ResultKiB = n }, "resultKiB", [2]int{256 << 10, 256<<10 + 1}},
		"no results":       {address, func(s *team.Server, n int) { s.ResultKiB = n }, "resultKiB", [2]int{0, -1}},
		"long headers":     {address, func(s *team.Server, n int) { s.Headers = []string{"X-A: " + strings.Repeat("x", n-5)} }, "headers", [2]int{8 << 10, 8<<10 + 1}},
		"header names":     {address, func(s *team.Server, n int) { s.SecretHeader = strings.Repeat("h", n) }, "secretHeader", [2]int{100, 101}},
		"places": {
			address, func(s *team.Server, n int) {
				s.Places = slices.Repeat([]team.Place{{Secret: "s", How: team.CarryQuery, Name: "k"}}, n)
			}, "places", [2]int{20, 21},
		},
		"scopes": {
			address, func(s *team.Server, n int) {
				s.SignIn = &team.SignInWay{Grant: team.GrantCode, Scope: strings.Repeat("s", n)}
			}, "signIn.scope", [2]int{1000, 1001},
		},
	} {
		for i, n := range row.bounds {
			s := row.of
			row.alter(&s, n)
			assert.Equal(t, []string{"", row.field}[i], fieldOf(t, CheckOptions(s)), "%s: %d", name, n)
		}
	}
	for name, row := range map[string]struct {
		alter  func(s *team.Server, n int)
		field  string
		bounds [2]int
	}{
		"the command":      {func(s *team.Server, n int) { s.Command = strings.Repeat("c", n) }, "command", [2]int{1000, 1001}},
		"no command":       {func(s *team.Server, n int) { s.Command = strings.Repeat("c", n) }, "command", [2]int{1, 0}},
		"arguments":        {func(s *team.Server, n int) { s.Args = many(n, "a") }, "args", [2]int{100, 101}},
		"long arguments":   {func(s *team.Server, n int) { s.Args = []string{strings.Repeat("a", n)} }, "args", [2]int{32 << 10, 32<<10 + 1}},
		"variables":        {func(s *team.Server, n int) { s.Env = many(n, "A=b") }, "env", [2]int{100, 101}},
		"long variables":   {func(s *team.Server, n int) { s.Env = []string{"A=" + strings.Repeat("b", n-2)} }, "env", [2]int{16 << 10, 16<<10 + 1}},
		"zero bytes":       {func(s *team.Server, n int) { s.Args = many(n, "\x00") }, "args", [2]int{0, 1}},
		"lines":            {func(s *team.Server, n int) { s.Command += strings.Repeat("\n", n) }, "command", [2]int{0, 1}},
		"zeros in values":  {func(s *team.Server, n int) { s.Env = []string{"A=" + strings.Repeat("\x00", n)} }, "env", [2]int{0, 1}},
		"that of a secret": {func(s *team.Server, n int) { s.SecretEnv, s.Env = "B", many(n, "B=x") }, "env", [2]int{0, 1}},
		"no variables":     {func(s *team.Server, n int) { s.Env = many(n, "B") }, "env", [2]int{0, 1}},
	} {
		for i, n := range row.bounds {
			s := process
			row.alter(&s, n)
			assert.Equal(t, []string{"", row.field}[i], fieldOf(t, checkProcess(s)), "%s: %d", name, n)
		}
	}
	for r, good := range map[string]bool{"!": true, "~": true, " ": false, "\x7f": false, "A-Z_9": true, "X:": false, "é": false, "(": false} {
		assert.Equal(t, good, headerName(r), r)
	}
}

// What goes together and what does not, setting by setting.
func TestSettingsThatExcludeEachOther(t *testing.T) {
	t.Parallel()
	place := func(how, name, scheme string) func(*team.Server) {
		return func(s *team.Server) { s.Places = []team.Place{{Secret: "s", How: how, Name: name, Scheme: scheme}} }
	}
	way := func(w team.SignInWay) func(*team.Server) { return func(s *team.Server) { s.SignIn = &w } }
	for name, row := range map[string]struct {
		transport string
		alter     func(*team.Server)
		field     string
	}{
		"certificates of a process":     {team.Stdio, func(s *team.Server) { s.CA = "x" }, "headers"},
		"a client's of a process":       {team.Stdio, func(s *team.Server) { s.ClientCert = "x" }, "headers"},
		"a header of a process":         {team.Stdio, func(s *team.Server) { s.SecretHeader = "X-A" }, "headers"},
		"a parameter of a process":      {team.Stdio, func(s *team.Server) { s.SecretQuery = "k" }, "headers"},
		"memory of an address":          {team.REST, func(s *team.Server) { s.MemoryMiB = 1 }, "memoryMiB"},
		"a parameter of a REST API":     {team.REST, func(s *team.Server) { s.SecretQuery = "k" }, ""},
		"a parameter and a header":      {team.REST, func(s *team.Server) { s.SecretQuery, s.SecretHeader = "k", "X-A" }, "secretQuery"},
		"operations of a REST API":      {team.REST, func(s *team.Server) { s.Operations = []team.Operation{{ID: "a"}} }, ""},
		"a result that is cut":          {team.StreamableHTTP, func(s *team.Server) { s.TooLarge = team.TooLargeCut }, ""},
		"a result that is refused":      {team.StreamableHTTP, func(s *team.Server) { s.TooLarge = team.TooLargeRefuse }, ""},
		"a result that is lost":         {team.StreamableHTTP, func(s *team.Server) { s.TooLarge = "lost" }, "tooLarge"},
		"a key without a certificate":   {team.StreamableHTTP, func(s *team.Server) { s.ClientKey = "k" }, "clientKey"},
		"shared":                        {team.StreamableHTTP, func(s *team.Server) { s.Sharing = team.SharingShared }, ""},
		"private":                       {team.StreamableHTTP, func(s *team.Server) { s.Sharing = team.SharingPrivate }, ""},
		"of each agent":                 {team.StreamableHTTP, func(s *team.Server) { s.Per = team.PerAgent }, ""},
		"of the team":                   {team.StreamableHTTP, func(s *team.Server) { s.Per = team.PerTeam }, ""},
		"a variable":                    {team.Stdio, place(team.CarryVariable, "A", ""), ""},
		"a file":                        {team.Stdio, place(team.CarryFile, "A", ""), ""},
		"no variable":                   {team.Stdio, place(team.CarryVariable, "9", ""), "places"},
		"a header of no process":        {team.Stdio, place(team.CarryHeader, "X-A", ""), "places"},
		"a file of no address":          {team.StreamableHTTP, place(team.CarryFile, "A", ""), "places"},
		"no header":                     {team.StreamableHTTP, place(team.CarryHeader, "X A", ""), "places"},
		"no parameter":                  {team.StreamableHTTP, place(team.CarryQuery, "", ""), "places"},
		"basic without a name":          {team.StreamableHTTP, place(team.CarryBasic, "", ""), ""},
		"a parameter of any form":       {team.StreamableHTTP, place(team.CarryQuery, "a b", ""), ""},
		"a scheme of basic":             {team.StreamableHTTP, place(team.CarryBasic, "", "Token"), "places"},
		"no scheme":                     {team.StreamableHTTP, place(team.CarryHeader, "X-A", "a b"), "places"},
		"a header of the protocol":      {team.StreamableHTTP, place(team.CarryHeader, "mcp-name", ""), "places"},
		"a parameter that is called so": {team.StreamableHTTP, place(team.CarryQuery, "mcp-name", ""), ""},
		"a sign-in of a process":        {team.Stdio, way(team.SignInWay{Grant: team.GrantCode}), "signIn"},
		"a sign-in of a REST API":       {team.REST, way(team.SignInWay{Grant: team.GrantCode}), "signIn"},
		"a sign-in of event streams":    {team.EventStream, way(team.SignInWay{Grant: team.GrantCode}), ""},
		"a client with its key":         {team.EventStream, way(team.SignInWay{Grant: team.GrantClient, ClientID: "c", SigningKey: "k"}), ""},
		"a client with both":            {team.EventStream, way(team.SignInWay{Grant: team.GrantClient, ClientID: "c", SigningKey: "k", ClientSecret: "s"}), "signIn.clientId"},
		"a client without its name":     {team.EventStream, way(team.SignInWay{Grant: team.GrantClient, SigningKey: "k"}), "signIn.clientId"},
		"a workload":                    {team.EventStream, way(team.SignInWay{Grant: team.GrantWorkload, ClientID: "c", Assertion: "a"}), ""},
		"an assertion of a code":        {team.EventStream, way(team.SignInWay{Grant: team.GrantCode, Assertion: "a"}), "signIn.assertion"},
		"placed everywhere":             {team.Stdio, placedAt("everywhere"), ""},
		"placed at one node":            {team.Stdio, placedAt("one"), ""},
		"placed at two":                 {team.Stdio, placedAt("two"), "placement"},
		"placed at a label":             {team.Stdio, placedAt("label:deep-water-4"), ""},
		"placed at no label":            {team.Stdio, placedAt("label:"), "placement"},
		"placed at LABELS":              {team.Stdio, placedAt("label:Cranes"), "placement"},
		"placed at a long one":          {team.Stdio, placedAt("label:" + strings.Repeat("x", 41)), "placement"},
		"placed at 40 letters":          {team.Stdio, placedAt("label:" + strings.Repeat("x", 40)), ""},
		"an address placed":             {team.EventStream, placedAt("one"), "placement"},
		"a workload that nobody knows":  {team.EventStream, way(team.SignInWay{Grant: team.GrantWorkload, Assertion: "a"}), "signIn.clientId"},
		"a key without its client":      {team.EventStream, way(team.SignInWay{Grant: team.GrantCode, SigningKey: "k"}), "signIn.clientId"},
		"an assertion that is unknown":  {team.EventStream, way(team.SignInWay{Grant: team.GrantAssertion}), "signIn.clientId"},
		"a client of each agent": {team.EventStream, func(s *team.Server) {
			s.Per, s.SignIn = team.PerAgent, &team.SignInWay{Grant: team.GrantClient, ClientID: "c", ClientSecret: "s"}
		}, "per"},
		"an assertion of each person": {team.EventStream, func(s *team.Server) {
			s.Per, s.SignIn = team.PerPerson, &team.SignInWay{Grant: team.GrantAssertion, ClientID: "c"}
		}, ""},
		"a code of each agent": {team.EventStream, func(s *team.Server) {
			s.Per, s.SignIn = team.PerAgent, &team.SignInWay{Grant: team.GrantCode}
		}, ""},
	} {
		s := team.Server{Transport: row.transport}
		row.alter(&s)
		assert.Equal(t, row.field, fieldOf(t, CheckOptions(s)), name)
	}
}

func placedAt(placement string) func(*team.Server) {
	return func(s *team.Server) { s.Placement = placement }
}

// Every field of a patch says whether the server has to be tried again with it.
func TestWhatHasToBeTried(t *testing.T) {
	t.Parallel()
	stays := []string{
		"Paused", "CallSeconds", "ResultKiB", "TooLarge", "ToolLimits", "StartSeconds", "MessageMiB", "Sharing", "Document", "DocumentURL",
		"Operations", "Per", "PrivateRanges", "Version", "Anyway", "Plain",
	}
	kind := reflect.TypeFor[ServerPatch]()
	for i := range kind.NumField() {
		var p ServerPatch
		if field := reflect.ValueOf(&p).Elem().Field(i); field.Kind() == reflect.Bool {
			field.SetBool(true)
		} else {
			field.Set(reflect.New(kind.Field(i).Type.Elem()))
		}
		name := kind.Field(i).Name
		assert.Equal(t, !slices.Contains(stays, name), p.Reaches(), name)
		assert.Equal(t, slices.Contains([]string{"Env", "Headers", "Args", "URL"}, name), p.opens(), name)
	}
	was := team.Server{URL: "a", Command: "b", Dir: "c", Args: []string{"d"}, Env: []string{"E=f"}}
	assert.False(t, Elsewhere(was, was))
	for _, alter := range []func(*team.Server){
		func(s *team.Server) { s.URL = "x" }, func(s *team.Server) { s.Command = "x" }, func(s *team.Server) { s.Dir = "x" },
		func(s *team.Server) { s.Args = nil }, func(s *team.Server) { s.Env = nil },
	} {
		now := was
		alter(&now)
		assert.True(t, Elsewhere(was, now))
	}
}

// An alteration is taken back by a patch that has what differs, and told by the same.
func TestAlterationsAreTakenBack(t *testing.T) {
	t.Parallel()
	base := team.Server{Name: "crew", URL: "https://crew.example/mcp", Transport: team.StreamableHTTP}
	base.Headers, base.Sharing = []string{"X-A: b"}, team.SharingAuto
	for want, alter := range map[string]func(*team.Server){
		"":                                    func(*team.Server) {},
		"url \"https://crew.example/mcp\"":    func(s *team.Server) { s.URL = "https://other.example/mcp" },
		"paused false":                        func(s *team.Server) { s.Paused = true },
		"headers X-A":                         func(s *team.Server) { s.Headers = nil },
		"places []":                           func(s *team.Server) { s.Places = []team.Place{{Secret: "s", How: team.CarryBasic}} },
		"signIn {\"grant\":\"\"}":             func(s *team.Server) { s.SignIn = &team.SignInWay{Grant: team.GrantCode} },
		"callSeconds 0, paused false":         func(s *team.Server) { s.CallSeconds, s.Paused = 5, true },
		"ca (0 characters), sharing \"auto\"": func(s *team.Server) { s.CA, s.Sharing = "x", team.SharingPrivate },
	} {
		now := base
		alter(&now)
		before, after := Difference(base, now)
		assert.Equal(t, want, before)
		assert.Equal(t, want == "", after == "")
		again, err := Apply(now, Back(base, now))
		if want[:min(2, len(want))] == "ca" {
			continue // what stands for a certificate here is none
		}
		require.NoError(t, err, want)
		if len(again.Places) == 0 {
			again.Places = nil
		}
		assert.Equal(t, base, again, want)
	}
	assert.Nil(t, Back(base, base).Env)
	empty := base
	empty.Env = []string{}
	assert.Nil(t, Back(base, empty).Env, "no variables are no variables")
	assert.Equal(t, &team.SignInWay{Grant: team.GrantCode}, backSignIn(&team.SignInWay{Grant: team.GrantCode}, nil))

	for name, row := range map[string]struct{ raw, want string }{
		"env": {`["A=b","C=d"]`, "A C"}, "args": {`["a","b"]`, "(2)"}, "dir": {`"/srv"`, "(4 characters)"}, "url": {`"x"`, `"x"`},
		"document": {`"` + strings.Repeat("x", 400) + `"`, "(400 characters)"}, "places": {`[1]`, `[1]`},
		"toolLimits": {strings.Repeat("x", 300), strings.Repeat("x", 300)}, "operations": {strings.Repeat("x", 301), strings.Repeat("x", 300) + "..."},
	} {
		assert.Equal(t, row.want, shownValue(name, []byte(row.raw)), name)
	}
}

// What is altered is checked as what is registered, and what was known of the server before it
// was another one is forgotten.
func TestPatchesAreChecked(t *testing.T) {
	t.Parallel()
	address := team.Server{Name: "crew", URL: "https://crew.example/mcp", Transport: team.StreamableHTTP, Secret: "crew-token", Issuer: "https://pilothouse.example"}
	process := team.Server{Name: "berths", Command: "berths", Transport: team.Stdio}
	for name, row := range map[string]struct {
		s     team.Server
		p     ServerPatch
		field string
	}{
		"a command of an address":     {address, ServerPatch{Command: new("x")}, "command"},
		"arguments of an address":     {address, ServerPatch{Args: &[]string{"x"}}, "command"},
		"a directory of an address":   {address, ServerPatch{Dir: new("/x")}, "command"},
		"variables of an address":     {address, ServerPatch{Env: &[]string{"A=b"}}, "command"},
		"a variable of an address":    {address, ServerPatch{SecretEnv: new("A")}, "command"},
		"the address of a process":    {process, ServerPatch{URL: new("https://x.example")}, "url"},
		"another transport":           {address, ServerPatch{Transport: new(team.EventStream)}, ""},
		"the same transport":          {address, ServerPatch{Transport: new(team.StreamableHTTP)}, ""},
		"the transport of a process":  {address, ServerPatch{Transport: new(team.Stdio)}, "transport"},
		"a transport for a process":   {process, ServerPatch{Transport: new(team.EventStream)}, "transport"},
		"operations of an address":    {address, ServerPatch{Operations: &[]team.Operation{}}, "operations"},
		"no command any more":         {process, ServerPatch{Command: new("")}, "command"},
		"arguments":                   {process, ServerPatch{Args: &[]string{"-v"}}, ""},
		"a secret among arguments":    {process, ServerPatch{Args: &[]string{"--token", "harbour-7-token-9"}}, "args"},
		"a secret in an argument":     {process, ServerPatch{Args: &[]string{"--token=harbour-7-token-9"}}, "args"},
		"one that is said to be none": {process, ServerPatch{Args: &[]string{"--token=harbour-7-token-9"}, Plain: true}, ""},
		"a word that stands alone":    {process, ServerPatch{Args: &[]string{"token", "harbour-7-token-9"}}, ""},
		"a secret among variables":    {process, ServerPatch{Env: &[]string{"API_KEY=harbour-7-token-9"}}, "env"},
		"a secret among headers":      {address, ServerPatch{Headers: &[]string{"X-Api-Key: harbour-7-token-9"}}, "headers"},
		"a secret in the address":     {address, ServerPatch{URL: new("https://crew.example/mcp?api_key=harbour-7-token-9")}, "url"},
		"no secret in the address":    {address, ServerPatch{URL: new("https://crew.example/mcp?quay=harbour-7-token-9")}, ""},
		"options too":                 {address, ServerPatch{Sharing: new("some")}, "sharing"},
	} {
		_, err := Apply(row.s, row.p)
		assert.Equal(t, row.field, fieldOf(t, err), name)
	}
	for name, row := range map[string]struct {
		p              ServerPatch
		secret, issuer string
	}{
		"nothing":              {ServerPatch{}, "crew-token", "https://pilothouse.example"},
		"the same address":     {ServerPatch{URL: new("https://crew.example/mcp")}, "crew-token", "https://pilothouse.example"},
		"another address":      {ServerPatch{URL: new("https://other.example/mcp")}, "crew-token", ""},
		"another issuer":       {ServerPatch{TakeIssuer: true}, "crew-token", ""},
		"a sign-in":            {ServerPatch{SignIn: &team.SignInWay{Grant: team.GrantCode}}, "", ""},
		"no sign-in":           {ServerPatch{SignIn: &team.SignInWay{}}, "crew-token", ""},
		"another secret":       {ServerPatch{Secret: new("other")}, "other", "https://pilothouse.example"},
		"a secret, and no one": {ServerPatch{Secret: new("")}, "", "https://pilothouse.example"},
	} {
		after, err := Apply(address, row.p)
		require.NoError(t, err, name)
		assert.Equal(t, []string{row.secret, row.issuer}, []string{after.Secret, after.Issuer}, name)
		assert.Equal(t, name == "a sign-in", after.SignIn != nil, name)
	}
	assert.Equal(t, []string{"a", "b", "c", "d"}, NamedSecrets(team.Server{ServerOptions: team.ServerOptions{
		Places: []team.Place{{Secret: "a"}, {}}, SignIn: &team.SignInWay{ClientSecret: "b", SigningKey: "c", Assertion: "d"},
	}}))
	assert.Empty(t, NamedSecrets(team.Server{}))
	assert.Equal(t, `https://crew.example/mcp, secret "crew-token", paused false`, Summary(address))
}

// The address and the place of the credential come from the document, where nobody said otherwise.
func TestRESTAPIsAreDescribedByTheirDocument(t *testing.T) {
	t.Parallel()
	document := func(server, scheme string) string {
		return `{"openapi":"3.1.0","info":{"title":"Tides","version":"1"},` + server +
			`"paths":{"/levels":{"get":{"operationId":"levels","responses":{"200":{"description":"ok"}}}}},"components":{"securitySchemes":{` + scheme + `}}}`
	}
	const key = `"k":{"type":"apiKey","in":"header","name":"X-Tide-Key"}`
	picked := team.ServerOptions{Operations: []team.Operation{{ID: "levels"}}}
	describe := func(r Registration) (team.Server, error) {
		r.Name = "tides"
		return Describe(r, "01a", time.Time{})
	}
	for name, row := range map[string]struct {
		r           Registration
		at, header  string
		query, fail string
	}{
		"an address of its own": {Registration{URL: "https://a.example/v1", Document: document("", key), ServerOptions: picked}, "https://a.example/v1", "", "", ""},
		"with a secret":         {Registration{URL: "https://a.example/v1", Secret: "s", Document: document("", key), ServerOptions: picked}, "https://a.example/v1", "X-Tide-Key", "", ""},
		"with a token":          {Registration{URL: "https://a.example/v1", Token: "t", Document: document("", key), ServerOptions: picked}, "https://a.example/v1", "X-Tide-Key", "", ""},
		"a parameter": {Registration{
			URL: "https://a.example/v1", Token: "t", Document: document("", `"k":{"type":"apiKey","in":"query","name":"key"}`), ServerOptions: picked,
		}, "https://a.example/v1", "", "key", ""},
		"the document's":        {Registration{Document: document(`"servers":[{"url":"https://b.example/v2"}],`, ""), ServerOptions: picked}, "https://b.example/v2", "", "", ""},
		"beside the document":   {Registration{Document: document(`"servers":[{"url":"v3"}],`, ""), DocumentURL: "https://c.example/api/openapi.json", ServerOptions: picked}, "https://c.example/api/v3", "", "", ""},
		"none":                  {Registration{Document: document(`"servers":[{"url":"v3"}],`, ""), ServerOptions: picked}, "", "", "", "url"},
		"no document":           {Registration{URL: "https://a.example", Document: "7", ServerOptions: picked}, "", "", "", "document"},
		"an address that fails": {Registration{Document: document(`"servers":[{"url":"ftp://b.example"}],`, ""), ServerOptions: picked}, "", "", "", "url"},
	} {
		s, err := describe(row.r)
		assert.Equal(t, row.fail, fieldOf(t, err), name)
		if row.fail == "" {
			assert.Equal(t, []string{row.at, row.header, row.query}, []string{s.URL, s.SecretHeader, s.SecretQuery}, name)
		}
	}
	s, err := describe(Registration{URL: "https://a.example", Document: document("", key)})
	var pick *OperationsError
	require.ErrorAs(t, err, &pick)
	assert.Len(t, pick.Document.Operations, 1)
	assert.Len(t, pick.Document.Schemes, 1)
	assert.NotNil(t, DescribeDocument(parsed(t, document("", ""))).Schemes)
	s.Operations = picked.Operations
	s, err = Apply(s, ServerPatch{Document: new(document(`"servers":[{"url":"https://b.example/v2"}],`, ""))})
	require.NoError(t, err)
	assert.Contains(t, s.Document, "b.example")
	_, err = Apply(s, ServerPatch{Document: new("7")})
	assert.Equal(t, "document", fieldOf(t, err))
	own, err := describe(Registration{
		URL: "https://a.example", Secret: "s", Document: document("", key), ServerOptions: team.ServerOptions{Operations: picked.Operations, SecretHeader: "X-Own"},
	})
	require.NoError(t, err)
	assert.Equal(t, "X-Own", own.SecretHeader)
}

// A client certificate goes with its key, and with no other.
func TestCertificatesGoWithTheirKeys(t *testing.T) {
	t.Parallel()
	pair := func() (cert, key string) {
		private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		about := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
		raw, err := x509.CreateCertificate(rand.Reader, about, about, &private.PublicKey, private)
		require.NoError(t, err)
		sealed, err := x509.MarshalECPrivateKey(private)
		require.NoError(t, err)
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})),
			string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: sealed}))
	}
	cert, key := pair()
	_, other := pair()
	s := team.Server{Transport: team.StreamableHTTP, ServerOptions: team.ServerOptions{CA: cert, ClientCert: cert, ClientKey: "crew-key"}}
	require.NoError(t, CheckOptions(s))
	assert.NoError(t, CheckPair(s, key))
	assert.Equal(t, "clientCert", fieldOf(t, CheckPair(s, other)))
	assert.NoError(t, CheckPair(team.Server{}, "no key"))
}

func parsed(t *testing.T, text string) *restmap.Document {
	t.Helper()
	doc, err := restmap.Parse([]byte(text))
	require.NoError(t, err)
	return doc
}
