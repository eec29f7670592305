// Package standin is the parent of the stand-ins: small simulated servers and
// assistants that ship with Bouncer, for the demo and for tests.
package standin
