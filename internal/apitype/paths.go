package apitype

// Addresses of Bouncer that other parties are told.
const (
	CallbackPath = "/sign-in/callback"     // where authorization servers send the browser back to
	DocumentPath = "/client-metadata.json" // client-id metadata document of Bouncer
	ConnectPath  = "/connect/"             // console page where a credential is supplied
)
