package api

import (
	"net/http"
	"strconv"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/desk"
)

var (
	admins  = []team.Role{team.Admin}
	keepers = []team.Role{team.Admin, team.Maintainer}
	owners  = []team.Role{team.Admin, team.Maintainer, team.Member}
	readers = []team.Role{team.Admin, team.Maintainer, team.Auditor}
)

// Bodies of requests and answers that are not nouns of the team.
type (
	credentials struct {
		Name     string `json:"name"`
		Password string `json:"password"`
		Label    string `json:"label,omitempty" doc:"what the token is for, to tell tokens apart"`
	}
	issued struct {
		Token  string      `json:"token" doc:"shown this once"`
		Person team.Person `json:"person"`
	}
	newPassword struct {
		Old string `json:"old"`
		New string `json:"new"`
	}
	about struct {
		Version string `json:"version"`
		Address string `json:"address" doc:"base URL of the service; agents connect to /mcp below it"`
		Journal string `json:"journal" enum:"normal,strict"`
		// Provider is where people can sign in besides with a password.
		Provider string `json:"provider,omitempty" doc:"name of the identity provider where people can sign in, if there is one"`
	}
	addedPerson struct {
		Person   team.Person `json:"person"`
		Password string      `json:"password" doc:"one-time password, shown this once"`
	}
	registration struct {
		Name   string `json:"name"`
		URL    string `json:"url,omitempty" doc:"address of the MCP endpoint"`
		Token  string `json:"token,omitempty" doc:"bearer token, or value of the variable secretEnv, to be stored for it"`
		Secret string `json:"secret,omitempty" doc:"name of a stored secret to be given to it instead"`
		Anyway bool   `json:"anyway,omitempty" doc:"register it even when it cannot be reached now"`

		Command   string   `json:"command,omitempty" doc:"instead of url: a local process, as a name in PATH or an absolute path"`
		Args      []string `json:"args,omitempty" doc:"its arguments"`
		Dir       string   `json:"dir,omitempty" doc:"its working directory, an absolute path"`
		Env       []string `json:"env,omitempty" doc:"its variables, as NAME=value; it gets PATH, HOME, LANG, TMPDIR and TZ besides"`
		SecretEnv string   `json:"secretEnv,omitempty" doc:"the variable that carries the token or the secret"`

		Transport   string `json:"transport,omitempty" enum:"streamable-http,sse" doc:"of the url; found out when it is left out"`
		Document    string `json:"document,omitempty" doc:"OpenAPI document (3.0 or 3.1, JSON or YAML) of a REST API, as text"`
		DocumentURL string `json:"documentURL,omitempty" doc:"address of the OpenAPI document instead"`
		team.ServerOptions
	}
	document struct {
		Document    string `json:"document,omitempty" doc:"an OpenAPI document as text"`
		DocumentURL string `json:"documentURL,omitempty" doc:"its address instead"`
	}
	serverPatch struct {
		URL    *string `json:"url,omitempty"`
		Paused *bool   `json:"paused,omitempty"`
		Token  *string `json:"token,omitempty" doc:"a new bearer token; tried before it is stored"`
		Anyway bool    `json:"anyway,omitempty" doc:"alter it even when it cannot be reached that way"`

		Sharing    *string           `json:"sharing,omitempty" enum:"auto,shared,private"`
		Document   *string           `json:"document,omitempty" doc:"another OpenAPI document of a REST API"`
		Operations *[]team.Operation `json:"operations,omitempty" doc:"of a REST API: all operations that are tools"`
		Per        *string           `json:"per,omitempty" enum:"team,person,agent"`
		Secret     *string           `json:"secret,omitempty" doc:"name of another stored secret to be given to it; empty for none"`
		Places     *[]team.Place     `json:"places,omitempty" doc:"all further secrets"`
		SignIn     *team.SignInWay   `json:"signIn,omitempty" doc:"how a grant is come by; an empty object for none"`
	}
	toolView struct {
		Name        string `json:"name"`
		Title       string `json:"title"`
		Description string `json:"description"`
		ReadOnly    bool   `json:"readOnly" doc:"the server says so"`
		Destructive bool   `json:"destructive" doc:"the server says so"`
		Schema      any    `json:"schema" doc:"the tool's description as the server sent it"`
	}
	newPass struct {
		Label string `json:"label,omitempty"`
		Days  int    `json:"days" doc:"for how long it is valid, 1 to 366"`
		// InAddress makes a pass for agents that can set no header.
		InAddress bool `json:"inAddress,omitempty" doc:"a pass that is part of an address, for an agent that can set no header (setting address-passes)"`
	}
	issuedPass struct {
		Pass  team.Pass `json:"pass"`
		Token string    `json:"token" doc:"what the agent shows; given out this once"`
		URL   string    `json:"url,omitempty" doc:"address with the pass in it"`
	}
	inspection struct {
		Kind  string `json:"kind,omitempty" enum:"bearer,value,basic,environment,client-secret,private-key"`
		Value string `json:"value"`
	}
	invited struct {
		Invitation team.Invitation `json:"invitation"`
		Link       string          `json:"link" doc:"to be passed on; shown this once"`
	}
	resetPassword struct {
		Password string `json:"password" doc:"one-time password, shown this once"`
	}
	sentTo struct {
		URL string `json:"url" doc:"where to send the browser"`
	}
)

func (a *API) table() []route {
	callQuery := []queryField{
		{"agent", "only this agent's calls"}, {"server", "only calls to this server"}, {"tool", "only tools that match this glob"},
		{"decision", "admit or refuse"}, {"outcome", "ok, tool-error, error, refused, cancelled, timeout or unreachable"}, {"rule", "only calls decided by the rule with this id"},
		{"text", "only calls with this text in tool, error, arguments or result"}, {"since", "only calls from this time on (RFC 3339)"}, {"until", "only calls before this time (RFC 3339)"},
	}
	paged := append(append([]queryField(nil), callQuery...), queryField{"before", "only calls older than the one with this id"}, queryField{"after", "only calls newer than the one with this id, oldest first"}, queryField{"limit", "how many, 1 to 500; 100 if left out"})
	const get, post, put, patch, del = http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete
	return []route{
		{method: get, path: "/api/openapi.json", id: "describe", summary: "This description, OpenAPI 3.1", public: true, out: map[string]any{}, status: 200, raw: a.serveDoc},
		{method: get, path: "/api/about", id: "about", summary: "Version and address of the service", public: true, out: about{}, status: 200, handle: a.about},

		{method: post, path: "/api/session", id: "signIn", summary: "Sign in to the console; sets a session cookie", public: true, in: credentials{}, out: team.Person{}, status: 200, handle: a.signIn},
		{method: get, path: "/api/session", id: "whoAmI", summary: "Who is signed in", fresh: true, out: team.Person{}, status: 200, handle: func(c *call) (any, error) { return c.person, nil }},
		{method: del, path: "/api/session", id: "signOut", summary: "End the present login", fresh: true, status: 204, handle: a.signOut},
		{method: put, path: "/api/session/password", id: "changePassword", summary: "Choose another password; ends all other logins", fresh: true, in: newPassword{}, status: 204, handle: a.changePassword},
		{method: post, path: "/api/tokens", id: "issueToken", summary: "Get a token for the command line", public: true, in: credentials{}, out: issued{}, status: 201, handle: a.issueToken},

		{method: get, path: "/api/people", id: "listPeople", summary: "Everybody in the team", out: []team.Person{}, status: 200, handle: func(c *call) (any, error) { return a.desk.People(c.Context()) }},
		{method: post, path: "/api/people", id: "addPerson", summary: "Add somebody; gives a one-time password", roles: admins, in: desk.NewPerson{}, out: addedPerson{}, status: 201, handle: a.addPerson},
		{method: patch, path: "/api/people/{name}", id: "updatePerson", summary: "Alter a person: full name, role", roles: admins, in: desk.PersonPatch{}, out: team.Person{}, status: 200, handle: a.updatePerson},

		{method: get, path: "/api/servers", id: "listServers", summary: "Every registered server, with how it is doing", out: []desk.ServerInfo{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Servers(c.Context()) }},
		{method: post, path: "/api/servers", id: "registerServer", summary: "Reach a server, list its tools, and register it", roles: keepers, in: registration{}, out: desk.ServerInfo{}, status: 201, handle: a.register},
		{method: get, path: "/api/servers/{name}", id: "getServer", summary: "One server", out: desk.ServerInfo{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Server(c.Context(), c.name("name")) }},
		{method: patch, path: "/api/servers/{name}", id: "updateServer", summary: "Alter a server: address, credentials, sharing, operations, pause or resume", roles: keepers, in: serverPatch{}, out: desk.ServerInfo{}, status: 200, handle: a.updateServer},
		{method: del, path: "/api/servers/{name}", id: "removeServer", summary: "Remove a server; its secret stays", roles: keepers, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RemoveServer(c.Context(), c.person, c.name("name")) }},
		{method: get, path: "/api/servers/{name}/tools", id: "listTools", summary: "The tools of one server", out: []toolView{}, status: 200, handle: a.serverTools},
		{method: get, path: "/api/servers/{name}/editions", id: "listEditions", summary: "The recorded states of a server's tool list, newest first", out: []team.Edition{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Editions(c.Context(), c.name("name")) }},
		{method: get, path: "/api/servers/{name}/operations", id: "listOperations", summary: "The operations of a REST API, with those that are tools", out: desk.DocumentInfo{}, status: 200, handle: func(c *call) (any, error) { return a.desk.ServerOperations(c.Context(), c.name("name")) }},
		{method: post, path: "/api/documents", id: "readDocument", summary: "Read an OpenAPI document and list its operations", roles: keepers, in: document{}, out: desk.DocumentInfo{}, status: 200, handle: a.readDocument},
		{method: post, path: "/api/servers/{name}/check", id: "checkServer", summary: "Reach a server again, from the beginning", roles: keepers, out: desk.ServerInfo{}, status: 200, handle: func(c *call) (any, error) { return a.desk.CheckServer(c.Context(), c.name("name")) }},

		{method: get, path: "/api/agents", id: "listAgents", summary: "The agents you may see", out: []team.Agent{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Agents(c.Context(), c.person) }},
		{method: post, path: "/api/agents", id: "addAgent", summary: "Add an agent", roles: owners, in: desk.NewAgent{}, out: team.Agent{}, status: 201, handle: a.addAgent},
		{method: get, path: "/api/agents/{name}", id: "getAgent", summary: "One agent", out: team.Agent{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Agent(c.Context(), c.person, c.name("name")) }},
		{method: patch, path: "/api/agents/{name}", id: "updateAgent", summary: "Alter an agent: kind, owner, pause or resume", roles: owners, in: desk.AgentPatch{}, out: team.Agent{}, status: 200, handle: a.updateAgent},
		{method: del, path: "/api/agents/{name}", id: "removeAgent", summary: "Remove an agent and its passes", roles: owners, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RemoveAgent(c.Context(), c.person, c.name("name")) }},
		{method: get, path: "/api/agents/{name}/reach", id: "getReach", summary: "Every tool, with whether the agent can use it and why", out: []desk.ReachedTool{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Reach(c.Context(), c.person, c.name("name")) }},
		{method: get, path: "/api/agents/{name}/passes", id: "listPasses", summary: "The agent's passes", out: []team.Pass{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Passes(c.Context(), c.person, c.name("name")) }},
		{method: post, path: "/api/agents/{name}/passes", id: "makePass", summary: "Make a pass; its token is given out this once", roles: owners, in: newPass{}, out: issuedPass{}, status: 201, handle: a.makePass},
		{method: del, path: "/api/agents/{name}/passes/{id}", id: "revokePass", summary: "Revoke a pass; the next call with it is refused", roles: owners, status: 204, handle: func(c *call) (any, error) {
			return nil, a.desk.RevokePass(c.Context(), c.person, c.name("name"), c.name("id"))
		}},

		{method: get, path: "/api/rules", id: "listRules", summary: "All rules", out: []team.Rule{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Rules(c.Context()) }},
		{method: post, path: "/api/rules", id: "addRule", summary: "Add a rule; it is in force at once", roles: keepers, in: desk.NewRule{}, out: team.Rule{}, status: 201, handle: a.addRule},
		{method: del, path: "/api/rules/{id}", id: "removeRule", summary: "Remove a rule; it is out of force at once", roles: keepers, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RemoveRule(c.Context(), c.person, c.name("id")) }},

		{method: get, path: "/api/secrets", id: "listSecrets", summary: "All secrets, without their values; members see their own", out: []team.Secret{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Secrets(c.Context(), c.person) }},
		{method: post, path: "/api/secrets", id: "addSecret", summary: "Store a secret", roles: keepers, in: desk.NewSecret{}, out: team.Secret{}, status: 201, handle: with(func(c *call, in desk.NewSecret) (any, error) { return a.desk.AddSecret(c.Context(), c.person, in) })},
		{method: post, path: "/api/secrets/inspect", id: "inspectSecret", summary: "Look at a value without storing it", roles: owners, in: inspection{}, out: desk.Inspection{}, status: 200, handle: with(func(c *call, in inspection) (any, error) { return a.desk.Inspect(in.Kind, in.Value), nil })},
		{method: put, path: "/api/secrets/{name}/value", id: "rotateSecret", summary: "Replace a value; it is tried on its servers first", roles: owners, in: desk.NewValue{}, out: team.Secret{}, status: 200, handle: with(func(c *call, in desk.NewValue) (any, error) {
			return a.desk.RotateSecret(c.Context(), c.person, c.name("name"), in)
		})},
		{method: del, path: "/api/secrets/{name}", id: "removeSecret", summary: "Remove a secret that no server is given", roles: owners, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RemoveSecret(c.Context(), c.person, c.name("name")) }},
		{method: put, path: "/api/servers/{name}/own", id: "giveOwn", summary: "Store the credential that you, or one of your agents, use at a server instead of the team's", roles: owners, in: desk.OwnValue{}, out: team.Secret{}, status: 200, handle: with(func(c *call, in desk.OwnValue) (any, error) {
			return a.desk.GiveOwn(c.Context(), c.person, c.name("name"), in)
		})},
		{method: del, path: "/api/servers/{name}/own", id: "dropOwn", summary: "Use the team's credential again", roles: owners, query: []queryField{{"agent", "agent that it is for; yourself if left out"}}, status: 204, handle: func(c *call) (any, error) {
			return nil, a.desk.DropOwn(c.Context(), c.person, c.name("name"), c.URL.Query().Get("agent"))
		}},
		{method: get, path: "/api/locker", id: "getLocker", summary: "The key set of the locker, without the keys", roles: admins, out: desk.KeySet{}, status: 200, handle: func(*call) (any, error) { return a.desk.Keys(), nil }},
		{method: post, path: "/api/locker/rotate", id: "rotateKeys", summary: "Put a new key in force and wrap everything with it", roles: admins, out: desk.KeySet{}, status: 200, handle: func(c *call) (any, error) { return a.desk.RotateKeys(c.Context(), c.person) }},
		{method: get, path: "/api/backup", id: "backup", summary: "A copy of the state as a database file; secrets stay sealed in it", roles: admins, out: "", status: 200, raw: a.backup},

		{method: get, path: "/api/sign-ins", id: "listSignIns", summary: "Sign-ins at servers; what you have to do comes first", out: []team.SignIn{}, status: 200, handle: func(c *call) (any, error) { return a.desk.SignIns(c.Context(), c.person) }},
		{method: post, path: "/api/sign-ins", id: "beginSignIn", summary: "Begin a sign-in at a server; the answer says where to send this browser", roles: owners, in: desk.SignInTry{}, out: desk.SignInStart{}, status: 200, handle: with(a.beginSignIn)},
		{method: del, path: "/api/sign-ins/{id}", id: "revokeSignIn", summary: "End a sign-in, here and at its authorization server", roles: owners, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RevokeSignIn(c.Context(), c.person, c.name("id")) }},
		{method: get, path: "/api/sign-in-problems/{id}", id: "getSignInProblem", summary: "Why a sign-in failed", public: true, out: team.Problem{}, status: 200, handle: func(c *call) (any, error) { return a.desk.SignInProblem(c.name("id")) }},
		{method: post, path: "/api/session/elsewhere", id: "signInElsewhere", summary: "Begin a sign-in to Bouncer through the identity provider", public: true, in: elsewhere{}, out: sentTo{}, status: 200, handle: with(a.signInElsewhere)},

		{method: get, path: "/api/consents", id: "listConsents", summary: "Programs that speak for agents because somebody agreed", out: []team.Consent{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Consents(c.Context(), c.person) }},
		{method: del, path: "/api/consents/{id}", id: "revokeConsent", summary: "End what a program may do; its next request is refused", roles: owners, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RevokeConsent(c.Context(), c.person, c.name("id")) }},
		{method: get, path: "/api/consent-requests/{id}", id: "getConsentRequest", summary: "What a program asks for", roles: owners, out: desk.ConsentRequest{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Consent(c.Context(), c.person, c.name("id")) }},
		{method: post, path: "/api/consent-requests/{id}", id: "decideConsent", summary: "Agree or decline", roles: owners, in: desk.Decision{}, out: sentTo{}, status: 200, handle: with(func(c *call, in desk.Decision) (any, error) {
			to, err := a.desk.Decide(c.Context(), c.person, c.name("id"), in)
			return sentTo{to}, err
		})},

		{method: get, path: "/api/logins", id: "listLogins", summary: "Open logins: your own, and everybody's for admins", out: []team.Login{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Logins(c.Context(), c.person, c.token) }},
		{method: del, path: "/api/logins/{id}", id: "endLogin", summary: "End a login at once", status: 204, handle: func(c *call) (any, error) { return nil, a.desk.EndLogin(c.Context(), c.person, c.name("id")) }},
		{method: post, path: "/api/people/{name}/password", id: "resetPassword", summary: "Give somebody a new one-time password; ends their logins", roles: admins, out: resetPassword{}, status: 200, handle: func(c *call) (any, error) {
			p, err := a.desk.ResetPassword(c.Context(), c.person, c.name("name"))
			return resetPassword{p}, err
		}},
		{method: del, path: "/api/people/{name}", id: "removePerson", summary: "Remove somebody with their logins, sign-ins and own secrets", roles: admins, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.RemovePerson(c.Context(), c.person, c.name("name")) }},
		{method: get, path: "/api/invitations", id: "listInvitations", summary: "Invitations, newest first", roles: admins, out: []team.Invitation{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Invitations(c.Context()) }},
		{method: post, path: "/api/invitations", id: "invite", summary: "Invite somebody by a link", roles: admins, in: desk.NewInvitation{}, out: invited{}, status: 201, handle: with(func(c *call, in desk.NewInvitation) (any, error) {
			v, link, err := a.desk.Invite(c.Context(), c.person, in)
			return invited{v, link}, err
		})},
		{method: del, path: "/api/invitations/{id}", id: "withdrawInvitation", summary: "Take an invitation back", roles: admins, status: 204, handle: func(c *call) (any, error) { return nil, a.desk.WithdrawInvitation(c.Context(), c.person, c.name("id")) }},
		{method: post, path: "/api/join", id: "join", summary: "Take an invitation; sets a session cookie", public: true, in: desk.Joining{}, out: team.Person{}, status: 200, handle: with(a.join)},

		{method: get, path: "/api/calls", id: "listCalls", summary: "The journal, newest first; members see their own agents' calls", query: paged, out: []team.Call{}, status: 200, handle: a.calls},
		{method: get, path: "/api/calls/{id}", id: "getCall", summary: "One call in full", out: team.Call{}, status: 200, handle: func(c *call) (any, error) { return a.desk.Call(c.Context(), c.person, c.name("id")) }},
		{method: get, path: "/api/call-counts", id: "countCalls", summary: "Calls counted in equal steps of time", query: append(append([]queryField(nil), callQuery...), queryField{"step", "length of a step in seconds; 3600 if left out"}), out: []team.Bucket{}, status: 200, handle: a.callCounts},
		{method: get, path: "/api/changes", id: "listChanges", summary: "The newest alterations of Bouncer's own state", roles: readers, query: []queryField{{"limit", "how many, 1 to 500; 100 if left out"}}, out: []team.Change{}, status: 200, handle: a.changes},
		{method: get, path: "/api/events", id: "events", summary: "What happens, as it happens (server-sent events: changed, calls)", out: "", status: 200, raw: a.events},
	}
}

func (a *API) about(*call) (any, error) {
	mode := "normal"
	if a.o.Strict {
		mode = "strict"
	}
	return about{a.o.Version, a.o.Address, mode, a.desk.ProviderName()}, nil
}

func (a *API) signIn(c *call) (any, error) {
	in, err := decode[credentials](c)
	if err != nil {
		return nil, err
	}
	token, p, err := a.desk.SignIn(c.Context(), in.Name, in.Password, "console", "console", c.from())
	if err != nil {
		return nil, err
	}
	a.setLogin(c.w, token)
	return p, nil
}

func (a *API) signOut(c *call) (any, error) {
	http.SetCookie(c.w, &http.Cookie{Name: Cookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
	return nil, a.desk.SignOut(c.Context(), c.token)
}

func (a *API) changePassword(c *call) (any, error) {
	in, err := decode[newPassword](c)
	if err != nil {
		return nil, err
	}
	return nil, a.desk.ChangePassword(c.Context(), c.person, c.token, in.Old, in.New)
}

func (a *API) issueToken(c *call) (any, error) {
	in, err := decode[credentials](c)
	if err != nil {
		return nil, err
	}
	token, p, err := a.desk.SignIn(c.Context(), in.Name, in.Password, "token", in.Label, c.from())
	return issued{token, p}, err
}

func (a *API) addPerson(c *call) (any, error) {
	in, err := decode[desk.NewPerson](c)
	if err != nil {
		return nil, err
	}
	p, password, err := a.desk.AddPerson(c.Context(), c.person, in)
	return addedPerson{p, password}, err
}

func (a *API) updatePerson(c *call) (any, error) {
	in, err := decode[desk.PersonPatch](c)
	if err != nil {
		return nil, err
	}
	return a.desk.UpdatePerson(c.Context(), c.person, c.name("name"), in)
}

func (a *API) register(c *call) (any, error) {
	in, err := decode[registration](c)
	if err != nil {
		return nil, err
	}
	return a.desk.Register(c.Context(), c.person, desk.Registration(in))
}

func (a *API) updateServer(c *call) (any, error) {
	in, err := decode[serverPatch](c)
	if err != nil {
		return nil, err
	}
	return a.desk.UpdateServer(c.Context(), c.person, c.name("name"), desk.ServerPatch(in))
}

func (a *API) readDocument(c *call) (any, error) {
	in, err := decode[document](c)
	if err != nil {
		return nil, err
	}
	return a.desk.ReadDocument(c.Context(), in.Document, in.DocumentURL)
}

func (a *API) serverTools(c *call) (any, error) {
	list, err := a.desk.ServerTools(c.Context(), c.name("name"))
	if err != nil {
		return nil, err
	}
	out := make([]toolView, 0, len(list))
	for _, t := range list {
		s := t.Summary()
		out = append(out, toolView{t.Name, s.Title, s.Description, s.ReadOnly, s.Destructive, t.Raw})
	}
	return out, nil
}

func (a *API) addAgent(c *call) (any, error) {
	in, err := decode[desk.NewAgent](c)
	if err != nil {
		return nil, err
	}
	return a.desk.AddAgent(c.Context(), c.person, in)
}

func (a *API) updateAgent(c *call) (any, error) {
	in, err := decode[desk.AgentPatch](c)
	if err != nil {
		return nil, err
	}
	return a.desk.UpdateAgent(c.Context(), c.person, c.name("name"), in)
}

func (a *API) makePass(c *call) (any, error) {
	in, err := decode[newPass](c)
	if err != nil {
		return nil, err
	}
	p, token, err := a.desk.NewPass(c.Context(), c.person, c.name("name"), in.Label, in.Days, in.InAddress)
	out := issuedPass{Pass: p, Token: token}
	if in.InAddress {
		out.URL = a.o.Address + "/in/" + token + "/mcp"
	}
	return out, err
}

func (a *API) addRule(c *call) (any, error) {
	in, err := decode[desk.NewRule](c)
	if err != nil {
		return nil, err
	}
	return a.desk.AddRule(c.Context(), c.person, in)
}

// callQuery reads the journal's filters.
func (c *call) callQuery() (desk.CallQuery, error) {
	v := c.URL.Query()
	q := desk.CallQuery{
		Agent: v.Get("agent"), Server: v.Get("server"), Tool: v.Get("tool"), Decision: v.Get("decision"), Outcome: v.Get("outcome"),
		Rule: v.Get("rule"), Text: v.Get("text"), Before: v.Get("before"), After: v.Get("after"),
	}
	if d := q.Decision; d != "" && d != "admit" && d != "refuse" {
		return q, &team.FieldError{Field: "decision", Why: "must be admit or refuse"}
	}
	if !oneOf(q.Outcome, append([]string{""}, team.Outcomes...)) {
		return q, &team.FieldError{Field: "outcome", Why: "must be one of ok, tool-error, error, refused, cancelled, timeout, unreachable"}
	}
	var err error
	if q.Since, err = c.timeField("since"); err != nil {
		return q, err
	}
	if q.Until, err = c.timeField("until"); err != nil {
		return q, err
	}
	q.Limit, err = c.intField("limit", 100, 1, desk.MaxCalls)
	return q, err
}

func oneOf(s string, list []string) bool {
	for _, v := range list {
		if s == v {
			return true
		}
	}
	return false
}

func (c *call) intField(name string, otherwise, low, high int) (int, error) {
	v := c.URL.Query().Get(name)
	if v == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(v)
	if err != nil || n < low || n > high {
		return 0, &team.FieldError{Field: name, Why: "must be a number from " + strconv.Itoa(low) + " to " + strconv.Itoa(high)}
	}
	return n, nil
}

func (a *API) calls(c *call) (any, error) {
	q, err := c.callQuery()
	if err != nil {
		return nil, err
	}
	return a.desk.Calls(c.Context(), c.person, q)
}

func (a *API) callCounts(c *call) (any, error) {
	q, err := c.callQuery()
	if err != nil {
		return nil, err
	}
	step, err := c.intField("step", 3600, 1, 7*86400)
	if err != nil {
		return nil, err
	}
	if q.Since.IsZero() {
		q.Since = time.Now().Add(-24 * time.Hour)
	}
	if end := time.Now(); end.Sub(q.Since) > time.Duration(step)*time.Second*1000 {
		return nil, &team.FieldError{Field: "step", Why: "gives more than 1000 steps since then; make it longer"}
	}
	return a.desk.CallCounts(c.Context(), c.person, q, time.Duration(step)*time.Second)
}

func (a *API) changes(c *call) (any, error) {
	n, err := c.intField("limit", 100, 1, 500)
	if err != nil {
		return nil, err
	}
	return a.desk.Changes(c.Context(), n)
}
