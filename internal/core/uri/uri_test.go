package uri

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEverySpellingIsOne(t *testing.T) {
	t.Parallel()
	for want, spellings := range map[string][]string{
		"file:///private/watch.txt": {
			"file:///private/watch.txt", "FILE:///private/watch.txt", "file:///./private/watch.txt", "file:////private//watch.txt",
			"file:///%70rivate/watch.txt", "file:///priv%61te/./watch%2Etxt", "fILE:///private/%77atch.txt",
		},
		"https://harbour.example/Chart?q=A%2Fb": {"HTTPS://Harbour.Example/./Chart?q=A%2fb", "https://harbour.example//Chart?q=A%2Fb"},
		"https://Teo@harbour.example/":          {"https://Teo@HARBOUR.example/", "https://Teo@harbour.example//"},
		"chart:notes/holm-voe":                  {"chart:notes/holm-voe", "CHART:notes/./holm%2Dvoe"},
		"plain name":                            {"plain name"},
		"file:///tides/%E2%88%9E/a.b..c/...d":   {"file:///tides/%e2%88%9e/a.b..c/...d"},
		"file:///notes/{name}":                  {"file:///notes/{name}", "file:///./notes/{name}"},
		"file:///a/b/":                          {"file:///a/b/", "file:///a/b/.", "file:///a/./b//"},
		"note:a?x=../b":                         {"note:a?x=../b"},
		"file:///a%3Ab":                         {"file:///a%3ab", "file:///%61%3Ab"},
		"":                                      {""},
		"urn:isbn:1":                            {"URN:isbn:1"},
		"file://host/share%20name":              {"file://HOST/share%20name"},
		"file://ahost/x":                        {"file://%41host/x"},
		"1no-scheme:Upper":                      {"1no-scheme:Upper"},
		"file:///x#Fragment/../y":               {"file:///x#Fragment/../y"},
		"data:text/plain,hello":                 {"DATA:text/plain,hello"},
		"https://harbour.example:8443/a":        {"https://harbour.example:8443/a"},
		"https://harbour.example":               {"https://HARBOUR.EXAMPLE"},
		"custom+scheme-1.0://h":                 {"Custom+Scheme-1.0://H"},
		"./A:00":                                {"./A:00"},
		"?A:B":                                  {"?A:B"},
		"#A:B":                                  {"#A:B"},
		":A":                                    {":A"},
		"A/b":                                   {"A/b"},
		"a:?X=../b":                             {"A:?X=../b"},
		"az09+-.://azaz%5B":                     {"AZ09+-.://AZaz%5b"},
		"a:AZaz09-._~%40%5B%60%7B%2F%3A":        {"a:%41%5A%61%7A%30%39%2D%2e%5F%7e%40%5b%60%7b%2f%3a"},
		"[x:B":                                  {"[x:B"},
		"{x:B":                                  {"{x:B"},
		"@x:B":                                  {"@x:B"},
		"`x:B":                                  {"`x:B"},
		"a/:B":                                  {"a/:B"},
		"a::B":                                  {"A::B"},
		"a:;B":                                  {"A:;B"},
	} {
		for _, in := range spellings {
			got, err := Normal(in)
			require.NoError(t, err, in)
			assert.Equal(t, want, got, in)
		}
	}
}

func TestWaysUpwardsAreRefused(t *testing.T) {
	t.Parallel()
	for _, in := range []string{
		"file:///public/../private", "file:///..", "../x", "file:///public/%2e%2e/private", "file:///public/.%2E/private",
		"file:///public/..%2fprivate", "file:///public%2f..%2fprivate", `file:///public\..\private`, "file:///public%5c..%5cprivate",
		"file:///public/%252e%252e/private", "file:///public/%25252e%25252e/private", "note:a/../b", "file:///a/..;x=1/b",
		"https://harbour.example/a/../../b?q=1", "file:///%" + strings.Repeat("25", 9) + "41", "//../x",
	} {
		_, err := Normal(in)
		assert.ErrorIs(t, err, ErrClimbs, in)
	}
	for _, in := range []string{"file:///a%00b", "file:///a\x00b", "file:///a\nb", "file:///a%", "file:///a%2", "file:///a%zz", "file:///\xff", "a%0Ab"} {
		_, err := Normal(in)
		assert.ErrorIs(t, err, ErrForm, in)
	}
}

// A normal URI is its own normal spelling, and has no way upwards left in it.
func FuzzNormal(f *testing.F) {
	for _, seed := range []string{"file:///./x", "FILE:////%70/..", "a:b/../c", "https://H/%2e%2e?x#y", "", "%", "x://%41/./b//"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		once, err := Normal(raw)
		if err != nil {
			return
		}
		twice, err := Normal(once)
		require.NoError(t, err, "%q became %q", raw, once)
		require.Equal(t, once, twice, "%q", raw)
		path, _, _ := strings.Cut(once, "?")
		path, _, _ = strings.Cut(path, "#")
		for _, part := range strings.Split(path, "/") {
			require.NotEqual(t, "..", part, "%q", raw)
		}
	})
}
