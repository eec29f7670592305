package link

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/spawn"
)

// Options bound a conversation; the zero value is the default.
type Options struct {
	Version        string        // Bouncer's own, told to servers
	ConnectTimeout time.Duration // for a connection; 0 means 10 s
	SetupTimeout   time.Duration // for initialize and for listing; 0 means 30 s
	MessageLimit   int           // bytes of one message; 0 means 16 MiB
	// Spawner starts the processes of local servers; nil starts them without bounds.
	Spawner *spawn.Spawner
	// Progress is told what is being opened; nil for nobody.
	Progress *Progress
	// Tap is told what goes over conversations; nil for nobody.
	Tap Tap
}

func (o Options) WithDefaults() Options {
	if o.ConnectTimeout == 0 {
		o.ConnectTimeout = 10 * time.Second
	}
	if o.SetupTimeout == 0 {
		o.SetupTimeout = 30 * time.Second
	}
	if o.MessageLimit == 0 {
		o.MessageLimit = 16 << 20
	}
	return o
}

// Greeting is what a server said of itself when the session was opened.
type Greeting struct {
	Revision     string
	Name         string
	Version      string
	Instructions string
	// What it declares to have.
	Tools, Prompts, Resources, Subscribe, Completions, Logging, Tasks bool
	TaskExtension                                                     bool
	// Which lists it tells the changes of.
	ToolsChanged, PromptsChanged, ResourcesChanged bool
}

// Offer is what a server offers.
type Offer struct {
	Greeting
	Lists map[tools.Kind][]tools.Tool
	// Left says what could not be taken, and why.
	Left []string
}

// DropMisannotated leaves out the tools whose mirrored arguments break the rules
// of their headers (MCP 2026-07-28, transports); the others stay.
func (o *Offer) DropMisannotated() {
	o.Lists[tools.Tools] = slices.DeleteFunc(o.Lists[tools.Tools], func(t tools.Tool) bool {
		_, err := wire.ReadMirrors(t.Raw)
		if err != nil {
			o.Left = append(o.Left, fmt.Sprintf("tool %q: %v", t.Name, err))
		}
		return err != nil
	})
}

// Digest tells two offers apart.
func (o Offer) Digest() string {
	var b strings.Builder
	for _, k := range tools.Kinds {
		b.WriteString(tools.Digest(o.Lists[k]))
	}
	fmt.Fprintf(&b, "%v", o.Greeting)
	return b.String()
}
