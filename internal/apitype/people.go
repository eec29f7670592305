package apitype

import (
	"bouncer/internal/core/team"
)

// Credentials is what somebody signs in with.
type Credentials struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Label    string `json:"label,omitempty" doc:"what the token is for, to tell tokens apart"`
}

// IssuedToken is a token for the command line.
type IssuedToken struct {
	Token  string      `json:"token" doc:"shown this once"`
	Person team.Person `json:"person"`
}

// NewPassword replaces a password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Undo asks for a change to be put back.
type Undo struct {
	Anyway bool `json:"anyway,omitempty" doc:"do it even when the server cannot be reached that way now"`
}

// About says what this service is.
type About struct {
	Version string `json:"version"`
	Address string `json:"address" doc:"base URL of the service; agents connect to /mcp below it"`
	Journal string `json:"journal" enum:"normal,strict"`
	// Redirect is needed before a client is registered by hand.
	Redirect string `json:"redirect" doc:"redirect address of sign-ins at servers, to be registered at authorization servers where clients are registered by hand"`
	// Provider is where people can sign in besides with a password.
	Provider string `json:"provider,omitempty" doc:"name of the identity provider where people can sign in, if there is one"`
}

// AddedPerson is a person with the one-time password.
type AddedPerson struct {
	Person   team.Person `json:"person"`
	Password string      `json:"password" doc:"one-time password, shown this once"`
}

// Invited is an invitation with its link.
type Invited struct {
	Invitation team.Invitation `json:"invitation"`
	Link       string          `json:"link" doc:"to be passed on; shown this once"`
}

// ResetPassword is a new one-time password.
type ResetPassword struct {
	Password string `json:"password" doc:"one-time password, shown this once"`
}

// SentTo says where to send the browser.
type SentTo struct {
	URL string `json:"url" doc:"where to send the browser"`
}

type ProviderSignIn struct {
	Back string `json:"back,omitempty" doc:"page of the console to come back to"`
}

// NewInvitation is an invitation to be made.
type NewInvitation struct {
	Role team.Role `json:"role" enum:"admin,maintainer,member,auditor"`
	Note string    `json:"note,omitempty" doc:"whom it is for"`
}

// Joining is what somebody says who takes an invitation.
type Joining struct {
	Token    string `json:"token"`
	Name     string `json:"name"`
	FullName string `json:"fullName"`
	Password string `json:"password"`
}

// NewPerson is somebody to be added.
type NewPerson struct {
	Name     string    `json:"name"`
	FullName string    `json:"fullName"`
	Role     team.Role `json:"role" enum:"admin,maintainer,member,auditor"`
}

// PersonPatch is what can be altered of a person; nil fields stay.
type PersonPatch struct {
	FullName *string    `json:"fullName,omitempty"`
	Role     *team.Role `json:"role,omitempty" enum:"admin,maintainer,member,auditor"`
	Version  *int       `json:"version,omitempty" doc:"the version that was read; without it the newest is altered"`
}

// Tie says who somebody is at the identity provider.
type Tie struct {
	Subject string `json:"subject" doc:"the subject there, as the refused sign-in told it"`
}
