package serverspec

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"bouncer/internal/core/team"
)

// Back returns the patch that makes a server that was altered again what it was. A token
// is not part of it: values are never given back.
func Back(old, now team.Server) ServerPatch {
	return ServerPatch{
		URL: back(old.URL, now.URL), Paused: back(old.Paused, now.Paused),
		Command: back(old.Command, now.Command), Args: back(old.Args, now.Args), Dir: back(old.Dir, now.Dir),
		Env: back(old.Env, now.Env), SecretEnv: back(old.SecretEnv, now.SecretEnv), Transport: back(old.Transport, now.Transport),
		Headers: back(old.Headers, now.Headers), SecretHeader: back(old.SecretHeader, now.SecretHeader),
		SecretQuery: back(old.SecretQuery, now.SecretQuery),
		CA:          back(old.CA, now.CA), ClientCert: back(old.ClientCert, now.ClientCert), ClientKey: back(old.ClientKey, now.ClientKey),
		MemoryMiB: back(old.MemoryMiB, now.MemoryMiB), OpenFiles: back(old.OpenFiles, now.OpenFiles),
		Processes:   back(old.Processes, now.Processes),
		CallSeconds: back(old.CallSeconds, now.CallSeconds), ResultKiB: back(old.ResultKiB, now.ResultKiB),
		TooLarge: back(old.TooLarge, now.TooLarge), ToolLimits: back(old.ToolLimits, now.ToolLimits),
		MessageMiB: back(old.MessageMiB, now.MessageMiB), StartSeconds: back(old.StartSeconds, now.StartSeconds),
		Placement: back(old.Placement, now.Placement),
		Sharing:   back(old.Sharing, now.Sharing), Document: back(old.Document, now.Document),
		Operations: back(old.Operations, now.Operations),
		Per:        back(old.Per, now.Per), Secret: back(old.Secret, now.Secret), Places: back(old.Places, now.Places),
		SignIn: backSignIn(old.SignIn, now.SignIn), PrivateRanges: back(old.PrivateRanges, now.PrivateRanges),
	}
}

// back is the value to be put back; nil when it is the same.
func back[T any](old, now T) *T {
	x, y := reflect.ValueOf(&old).Elem(), reflect.ValueOf(&now).Elem()
	if reflect.DeepEqual(old, now) || (x.Kind() == reflect.Slice && x.Len() == 0 && y.Len() == 0) {
		return nil
	}
	if v := reflect.ValueOf(&old).Elem(); v.Kind() == reflect.Slice && v.IsNil() {
		v.Set(reflect.MakeSlice(v.Type(), 0, 0)) // nil would say that it stays
	}
	return &old
}

func backSignIn(old, now *team.SignInWay) *team.SignInWay {
	switch {
	case reflect.DeepEqual(old, now):
		return nil
	case old == nil:
		return &team.SignInWay{}
	}
	return old
}

// Difference puts into words what an alteration of a server altered: the fields that
// differ, as they were and as they are now. Those who may see changes need not see how
// a server is set up, so that of variables, headers and arguments the values are left
// out.
func Difference(old, now team.Server) (before, after string) {
	return words(Back(old, now)), words(Back(now, old))
}

// unseen are the fields whose values are for those who keep servers.
var unseen = map[string]string{"env": "=", "headers": ":", "args": "", "document": "", "ca": "", "clientCert": "", "dir": ""}

func words(p ServerPatch) string {
	raw, err := json.Marshal(p)
	var fields map[string]json.RawMessage
	if err != nil || json.Unmarshal(raw, &fields) != nil {
		return "" // a patch always marshals
	}
	var out []string
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		out = append(out, name+" "+shownValue(name, fields[name]))
	}
	return strings.Join(out, ", ")
}

func shownValue(name string, raw json.RawMessage) string {
	sep, hidden := unseen[name]
	var list []string
	switch isList := json.Unmarshal(raw, &list) == nil; {
	case hidden && isList && sep != "":
		for i, entry := range list {
			list[i], _, _ = strings.Cut(entry, sep)
		}
		return strings.Join(list, " ")
	case hidden && isList:
		return fmt.Sprintf("(%d)", len(list))
	case hidden:
		return fmt.Sprintf("(%d characters)", len(raw)-2)
	}
	text := string(raw)
	if len(text) > 300 {
		text = strings.ToValidUTF8(text[:300], "") + "..."
	}
	return text
}
