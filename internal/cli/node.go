package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
)

func nodeCommands() []command {
	return []command{
		{
			noun: "node", verb: "list", short: "List the nodes of the cluster, with how far each has carried out what was altered",
			example: "bouncer node list",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/nodes", t.view().showNodes)
			},
		},
		{
			noun: "node", verb: "show", args: "NODE", short: "Show one node", example: "bouncer node show north",
			run: func(ctx context.Context, t *task) error {
				var all apitype.Nodes
				if err := t.client.Get(ctx, "/api/nodes", &all); err != nil {
					return err
				}
				at := slices.IndexFunc(all.Nodes, func(n team.Node) bool { return n.Name == t.args[0] })
				if at < 0 {
					return &failure{exitNotFound, fmt.Sprintf("there is no node %q", t.args[0]), "bouncer node list shows which are there"}
				}
				if t.json {
					return t.writeJSON(all.Nodes[at])
				}
				return t.view().showNode(all.Nodes[at])
			},
		},
		nodeDrainCommand("drain", "Have a node take no new work: it answers that it is not ready, so that a balancer leaves it alone", true),
		{
			noun: "node", verb: "remove", args: "NODE", short: "Forget a node that is gone for good", example: "bouncer node remove west",
			long: `A node that is there is not removed: end its service, which leaves the cluster with that.
Started again, it is known again.`,
			run: func(ctx context.Context, t *task) error {
				if err := t.client.Do(ctx, http.MethodDelete, "/api/nodes/"+seg(t.args[0]), nil, nil); err != nil {
					return err
				}
				return t.done("node %s is forgotten", t.args[0])
			},
		},
		nodeDrainCommand("resume", "Have a node that was drained take new work again", false),
	}
}

func nodeDrainCommand(verb, short string, drain bool) command {
	return command{
		noun: "node", verb: verb, args: "NODE", short: short, example: "bouncer node " + verb + " north",
		long: `Its address /readyz tells balancers; who is connected stays so, and is served. It holds
for the name, also when the node is started again.`,
		run: func(ctx context.Context, t *task) error {
			return submit(ctx, t, http.MethodPatch, "/api/nodes/"+seg(t.args[0]), apitype.NodePatch{Draining: &drain}, func(apitype.Nodes) error {
				if drain {
					return t.done("node %s takes no new work; bouncer node resume %s undoes it", t.args[0], t.args[0])
				}
				return t.done("node %s takes new work", t.args[0])
			})
		},
	}
}

func (t view) showNodes(all apitype.Nodes) error {
	if all.Cluster == "" {
		return t.done("this service is one node; bouncer serve --cluster makes several one service")
	}
	var rows [][]string
	for _, n := range all.Nodes {
		late := behind(max(n.Last, n.Applied) - n.Applied)
		rows = append(rows, []string{n.Name, nodeState(n), late, strings.Join(n.Labels, " "), n.Address, n.Version, clock(n.Started)})
	}
	return t.table([]string{"NODE", "STATE", "BEHIND", "LABELS", "ADDRESS", "VERSION", "STARTED"}, rows)
}

// nodeState is how a node is, in few words.
func nodeState(n team.Node) string {
	var words []string
	if n.Here {
		words = append(words, "asked")
	}
	if n.Draining {
		words = append(words, "draining")
	}
	if n.Trouble != "" {
		words = append(words, n.Trouble)
	}
	if n.Trouble == "" && !n.Draining {
		words = append([]string{"serves"}, words...)
	}
	return strings.Join(words, ", ")
}

// behind is by how many entries of the log a node is behind.
func behind(entries uint64) string {
	if entries == 0 {
		return "-"
	}
	return fmt.Sprintf("%d", entries)
}

func (t view) showNode(n team.Node) error {
	rows := [][]string{
		{"node", n.Name}, {"state", nodeState(n)}, {"address", n.Address}, {"version", n.Version}, {"started", clock(n.Started)},
		{"labels", strings.Join(n.Labels, " ")},
	}
	if !n.Gone { // of which it is not known
		rows = append(rows,
			[]string{"carried out", fmt.Sprintf("entry %d of %d", n.Applied, max(n.Last, n.Applied))}, []string{"last heard of", clock(n.Told)})
	}
	return t.table(nil, rows)
}
