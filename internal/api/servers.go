package api

import (
	"cmp"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/lint"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/imports"
	"bouncer/internal/servers"
)

// serverRoutes are the rows of the servers.
func serverRoutes(svc *servers.Service) []route {
	return []route{
		{
			method: get, path: "/api/servers", id: "listServers", action: access.SeeServers,
			summary: "Every registered server, with how it is doing",
			out:     []apitype.ServerInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/servers", id: "registerServer", action: access.KeepServers,
			summary: "Reach a server, list its tools, and register it",
			in:      serverspec.Registration{}, out: apitype.ServerInfo{}, status: 201,
			handle: with(func(c *call, in serverspec.Registration) (any, error) { return svc.Register(c.Context(), c.person, in) }),
		},
		{
			method: get, path: "/api/servers/{name}", id: "getServer", action: access.SeeServers, summary: "One server",
			out: apitype.ServerInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Get(c.Context(), c.person, c.name("name")) },
		},
		{
			method: patch, path: "/api/servers/{name}", id: "updateServer", action: access.KeepServers,
			summary: "Alter a server: address, credentials, sharing, operations, pause or resume",
			in:      serverspec.ServerPatch{}, out: apitype.ServerInfo{}, status: 200,
			handle: with(func(c *call, in serverspec.ServerPatch) (any, error) {
				return svc.Update(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: get, path: "/api/servers/{name}/dependents", id: "listServerDependents", action: access.KeepServers,
			summary: "What hangs on a server, and what a removal makes of it",
			out:     []team.Dependent{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Dependents(c.Context(), c.name("name")) },
		},
		{
			method: del, path: "/api/servers/{name}", id: "removeServer", action: access.KeepServers,
			summary: "Remove a server; its secret stays",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.Remove(c.Context(), c.person, c.name("name")) },
		},
	}
}

// serverActionRoutes are the rows of what is done with a server, and read of it.
func serverActionRoutes(svc *servers.Service, imports *imports.Service) []route {
	return []route{
		{
			method: get, path: "/api/servers/{name}/tools", id: "listTools", action: access.SeeServers,
			summary: "The tools of one server, or what else it offers",
			query:   []queryField{{"kind", "tools, prompts, resources or resourceTemplates; tools if left out"}},
			out:     []apitype.ToolView{}, status: 200,
			handle: func(c *call) (any, error) {
				kind := tools.Kind(cmp.Or(c.URL.Query().Get("kind"), string(tools.Tools)))
				list, err := svc.Offered(c.Context(), c.name("name"), kind)
				return toolViews(c.name("name"), kind, list, err)
			},
		},
		{
			method: get, path: "/api/servers/{name}/editions", id: "listEditions", action: access.SeeServers,
			summary: "The recorded states of a server's tool list, newest first",
			out:     []team.Edition{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Editions(c.Context(), c.name("name")) },
		},
		{
			method: get, path: "/api/servers/{name}/operations", id: "listOperations", action: access.SeeServers,
			summary: "The operations of a REST API, with those that are tools",
			out:     serverspec.DocumentInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Operations(c.Context(), c.name("name")) },
		},
		{
			method: post, path: "/api/documents", id: "readDocument", action: access.KeepServers,
			summary: "Read an OpenAPI document and list its operations",
			in:      apitype.DocumentSource{}, out: serverspec.DocumentInfo{}, status: 200,
			handle: with(func(c *call, in apitype.DocumentSource) (any, error) {
				return svc.ReadDocument(c.Context(), in.Document, in.DocumentURL)
			}),
		},
		{
			method: post, path: "/api/imports", id: "importServers", action: access.KeepServers,
			summary: "Read servers from what was pasted, and register them",
			in:      apitype.Import{}, out: apitype.Imported{}, status: 200,
			handle: with(func(c *call, in apitype.Import) (any, error) {
				out, err := imports.Import(c.Context(), c.person, in)
				for i := range out.Servers {
					if out.Servers[i].Err != nil {
						p := c.api.explain(c, out.Servers[i].Err)
						out.Servers[i].Problem = &p
					}
				}
				return out, err
			}),
		},
		{
			method: post, path: "/api/servers/{name}/check", id: "checkServer", action: access.KeepServers,
			summary: "Look at a server now: at the process that runs, or the whole way to an address",
			out:     apitype.ServerInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Check(c.Context(), c.name("name")) },
		},
		{
			method: get, path: "/api/servers/{name}/lint", id: "lintServer", action: access.SeeServers,
			summary: "What about a server's tools makes models choose wrongly, pay too much, or do harm",
			out:     []lint.Flaw{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Lint(c.Context(), c.person, c.name("name")) },
		},
		{
			method: get, path: "/api/servers/{name}/progress", id: "getServerProgress", action: access.KeepServers,
			summary: "What an attempt at reaching the server is doing now; also one that is being registered under the name",
			out:     apitype.Progress{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Progress(c.name("name")), nil },
		},
		{
			method: post, path: "/api/servers/{name}/restart", id: "restartServer", action: access.KeepServers,
			summary: "Replace what runs by what lies on the disk now; what does not answer replaces nothing",
			out:     apitype.ServerInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Restart(c.Context(), c.person, c.name("name")) },
		},
	}
}

// toolViews are tools as people are shown them.
func toolViews(server string, kind tools.Kind, list []tools.Tool, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	out := make([]apitype.ToolView, 0, len(list))
	for _, t := range list {
		s := t.Summary()
		out = append(
			out,
			apitype.ToolView{
				Name:        t.Name,
				Exposed:     tools.Exposed(server, kind, t.Name, list),
				Title:       s.Title,
				Description: s.Description,
				ReadOnly:    s.ReadOnly,
				Destructive: s.Destructive,
				Schema:      t.Raw,
			},
		)
	}
	return out, nil
}
