package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/cluster/nodes"
	"bouncer/internal/core/access"
)

// nodeRoutes are the rows of the nodes of a cluster.
func nodeRoutes(svc *nodes.Service) []route {
	return []route{
		{
			method: get, path: "/api/nodes", id: "listNodes", action: access.SeeService,
			summary: "The nodes of the cluster, with how far each has carried out the log; none for a service that is one node",
			out:     apitype.Nodes{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context()) },
		},
		{
			method: patch, path: "/api/nodes/{name}", id: "updateNode", action: access.KeepNodes,
			summary: "Have a node take no new work, or take some again", in: apitype.NodePatch{}, out: apitype.Nodes{}, status: 200,
			handle: with(func(c *call, in apitype.NodePatch) (any, error) {
				return svc.Drain(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: del, path: "/api/nodes/{name}", id: "removeNode", action: access.KeepNodes, summary: "Forget a node that is gone for good",
			status: 204, handle: func(c *call) (any, error) { return nil, svc.Remove(c.Context(), c.person, c.name("name")) },
		},
	}
}
