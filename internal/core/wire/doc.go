// Package wire is the shape of what travels: JSON-RPC 2.0 frames, the MCP
// members a relay has to look at, and the event-stream framing.
//
// A frame stays the bytes that came in. Reading one yields spans (where the
// id, the method, the tool name and the arguments begin and end) and writing
// one splices other bytes over such spans. Nothing here decodes and re-encodes
// a payload: unknown members, number formats and member order survive, and the
// cost of a large payload is one pass over its bytes.
//
// The package also guards the reading itself: a member that decides who may do
// what (method, name, id, ...) must be there at most once and under its exact
// spelling, or two readers could see two different calls in one frame.
package wire
