package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/machine"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// machineRoutes are the rows of enrolling assistants on other machines.
func machineRoutes(svc *machine.Service) []route {
	return []route{
		{
			method: get, path: "/api/machine-codes", id: "listMachineCodes", action: access.SeeAgents,
			summary: "One-time codes for assistants on other machines, newest first, with where each was used",
			out:     []team.MachineCode{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/machine-codes", id: "inviteMachine", action: access.SpeakForAgents,
			summary: "Make a one-time code with which an assistant on another machine is enrolled",
			in:      apitype.NewMachineCode{}, out: apitype.MachineInvited{}, status: 201,
			handle: with(func(c *call, in apitype.NewMachineCode) (any, error) { return svc.Invite(c.Context(), c.person, in) }),
		},
		{
			method: del, path: "/api/machine-codes/{id}", id: "withdrawMachineCode", action: access.KeepAgents,
			summary: "Take a one-time code back",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.Withdraw(c.Context(), c.person, c.name("id")) },
		},
		{
			method: post, path: "/api/machine-codes/redeem", id: "redeemMachineCode",
			summary: "Use a one-time code: the agent is made, and gets a pass",
			public:  true, in: apitype.Redemption{}, out: apitype.Redeemed{}, status: 201,
			handle: with(func(c *call, in apitype.Redemption) (any, error) { return svc.Redeem(c.Context(), in, c.from()) }),
		},
		{
			method: post, path: "/api/machine-codes/return", id: "returnPass",
			summary: "Give a pass back: it is revoked",
			public:  true, in: apitype.Returned{}, status: 204,
			handle: with(func(c *call, in apitype.Returned) (any, error) { return nil, svc.GiveBack(c.Context(), in.Token) }),
		},
	}
}
