package configfile

import (
	"fmt"
	"reflect"
	"slices"
)

// Entry names one entry of a file: the member Name of the map at Path, or, of a list, the
// item whose member NameKey is Name.
type Entry struct {
	Path    []string
	Name    string
	NameKey string // of a list: the member that holds the name; "" for a map
}

func (e Entry) inList() bool { return e.NameKey != "" }

// Find returns an entry; nil when there is none.
func (f *File) Find(e Entry) *Node {
	holder := f.Root.At(e.Path...)
	if !e.inList() {
		return holder.Get(e.Name)
	}
	if at := f.item(e); at >= 0 {
		return holder.Items[at]
	}
	return nil
}

// item is the place of an entry in its list; -1 for none.
func (f *File) item(e Entry) int {
	holder := f.Root.At(e.Path...)
	if holder == nil {
		return -1
	}
	return slices.IndexFunc(holder.Items, func(n *Node) bool {
		name, _ := n.Get(e.NameKey).Text()
		return name == e.Name
	})
}

// Put returns the file with an entry set: in the place of the one that is there, else
// after the last one. The map or the list is made when there is none. Errors are
// *WrittenError and *SyntaxError.
func (f *File) Put(e Entry, value Object) ([]byte, error) {
	if err := f.fits(e); err != nil {
		return nil, err
	}
	var out []byte
	var err error
	switch f.Syntax {
	case JSON:
		out, err = f.putJSON(e, value)
	case YAML:
		out, err = f.putYAML(e, value)
	default:
		out, err = f.putTOML(e, value)
	}
	if err != nil {
		return nil, err
	}
	return f.verified(out, e, plainObject(value))
}

// Remove returns the file without an entry; as it is when there is none.
func (f *File) Remove(e Entry) ([]byte, error) {
	if err := f.fits(e); err != nil {
		return nil, err
	}
	if f.Find(e) == nil {
		return f.src, nil
	}
	var out []byte
	var err error
	switch f.Syntax {
	case JSON:
		out, err = f.removeJSON(e)
	case YAML:
		out, err = f.removeYAML(e)
	default:
		out, err = f.removeTOML(e)
	}
	if err != nil {
		return nil, err
	}
	return f.verified(out, e, nil)
}

// fits reports why the place of an entry is no map or no list.
func (f *File) fits(e Entry) error {
	n := f.Root
	if n.Kind != Map && n.Kind != Null {
		return &WrittenError{"it is no map at its top"}
	}
	for i, key := range e.Path {
		n = n.Get(key)
		want := Map
		if i == len(e.Path)-1 && e.inList() {
			want = List
		}
		switch {
		case n == nil:
			return nil
		case n.alias:
			return &WrittenError{fmt.Sprintf("%q stands for a text that is written elsewhere in it", key)}
		case n.Kind != want && n.Kind != Null:
			return &WrittenError{fmt.Sprintf("%q is no %s (line %d)", key, map[Kind]string{Map: "map", List: "list"}[want], n.Line)}
		}
	}
	if !e.inList() {
		for _, p := range n.Pairs {
			if p.Key == e.Name && p.merged {
				return &WrittenError{fmt.Sprintf("%q comes from a merge key", e.Name)}
			}
		}
	}
	return nil
}

// verified returns an altered file when reading it gives what was there, with the one
// entry set to value, or without it.
func (f *File) verified(out []byte, e Entry, value any) ([]byte, error) {
	got, err := Parse(out, f.Syntax)
	if err != nil {
		return nil, &WrittenError{fmt.Sprintf("with the change it could no longer be read (%v)", err)}
	}
	want := f.expected(e, value)
	if !reflect.DeepEqual(prune(want), prune(plain(got.Root))) {
		return nil, &WrittenError{"the change would alter something else in it"}
	}
	return out, nil
}

// expected is the content of the file with an entry set to value.
func (f *File) expected(e Entry, value any) any {
	root, _ := plain(f.Root).(map[string]any)
	if root == nil {
		root = map[string]any{}
	}
	holder := root
	last := len(e.Path) - 1
	for i, key := range e.Path {
		if i == last && e.inList() {
			break
		}
		next, _ := holder[key].(map[string]any)
		if next == nil {
			next = map[string]any{}
			holder[key] = next
		}
		holder = next
	}
	if !e.inList() {
		if value == nil {
			delete(holder, e.Name)
		} else {
			holder[e.Name] = value
		}
		return root
	}
	list, _ := holder[e.Path[last]].([]any)
	at := f.item(e)
	switch {
	case value == nil:
		list = slices.Delete(slices.Clone(list), at, at+1)
	case at >= 0:
		list[at] = value
	default:
		list = append(list, value)
	}
	holder[e.Path[last]] = list
	return root
}

// plain is a node as maps, slices and values.
func plain(n *Node) any {
	switch n.Kind {
	case Map:
		out := make(map[string]any, len(n.Pairs))
		for _, p := range n.Pairs {
			out[p.Key] = plain(p.Value)
		}
		return out
	case List:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = plain(item)
		}
		return out
	case Scalar:
		return n.Value
	}
	return nil
}

// prune takes maps and lists away that hold nothing, so that one that is gone and one
// that is empty are the same: taking the last entry out may leave either.
func prune(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for key, inner := range v {
			if inner = prune(inner); inner != nil {
				out[key] = inner
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	case []any:
		if len(v) == 0 {
			return nil
		}
		out := make([]any, len(v))
		for i, inner := range v {
			out[i] = prune(inner)
		}
		return out
	}
	return v
}

// plainObject is what a value to be written reads as.
func plainObject(v any) any {
	switch v := v.(type) {
	case Object:
		out := map[string]any{}
		for _, f := range v {
			out[f.Name] = plainObject(f.Value)
		}
		return out
	case []Object:
		out := make([]any, len(v))
		for i, o := range v {
			out[i] = plainObject(o)
		}
		return out
	case []string:
		out := make([]any, len(v))
		for i, s := range v {
			out[i] = s
		}
		return out
	case int:
		return int64(v)
	}
	return v
}

// Same reports whether a node reads as a value would that is to be written.
func Same(n *Node, value Object) bool {
	return reflect.DeepEqual(prune(plain(n)), prune(plainObject(value)))
}
