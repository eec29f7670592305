package evidence

import (
	"encoding/base64"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func wide(text string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(text)) {
		b = append(b, byte(u), byte(u>>8))
	}
	return b
}

// The form of an answer is told whatever it is said to be.
func TestReadReply(t *testing.T) {
	t.Parallel()
	good := `{"jsonrpc":"2.0","id":7,"result":{}}`
	for name, row := range map[string]struct {
		raw   string
		shape Shape
		id    string
	}{
		"a message":                         {good, Message, ""},
		"with blanks around":                {"\r\n " + good + "\n", Message, ""},
		"another id":                        {strings.Replace(good, "7", "8", 1), Message, "its id is 8"},
		"the id as a text":                  {strings.Replace(good, "7", `"7"`, 1), Message, `its id is "7"`},
		"no id":                             {strings.Replace(good, `"id":7,`, "", 1), Message, "it has no id"},
		"null, of an error":                 {`{"jsonrpc":"2.0","id":null,"error":{"code":-32700,"message":"x"}}`, Message, ""},
		"null, of a result":                 {`{"jsonrpc":"2.0","id":null,"result":{}}`, Message, "its id is null"},
		"a notification":                    {`{"jsonrpc":"2.0","method":"notifications/message"}`, Message, ""},
		"nothing":                           {" \n", Nothing, ""},
		"another API":                       {`{"status":"ok"}`, OtherJSON, ""},
		"an error of another API":           {`{"error":{"message":"no"}}`, OtherJSON, ""},
		"a number":                          {"7", OtherJSON, ""},
		"a list of other things":            {`[{"id":1,"name":"north"}]`, OtherJSON, ""},
		"a batch":                           {"[" + good + "]", Batched, ""},
		"cut off":                           {good[:20], BrokenJSON, ""},
		"two in one":                        {good + good, BrokenJSON, ""},
		"a line of a log":                   {"[info] starting", Text, ""},
		"a line of a log with a time":       {"[2026-11-27 08:00:00] ready", Text, ""},
		"a template":                        {"{% block %}", Text, ""},
		"a page":                            {"<!DOCTYPE html><html></html>", Page, ""},
		"a page with a comment before":      {"<!-- hi --><html><body></body></html>", Page, ""},
		"XML":                               {`<?xml version="1.0"?><berths/>`, Text, ""},
		"a help text":                       {"usage: berths [-h]", Help, ""},
		"a help text below":                 {"Berths 2\n\nUsage: berths", Help, ""},
		"a mark before":                     {"\ufeff" + good, Marked, ""},
		"UTF-16":                            {string(wide(good)), Wide, ""},
		"UTF-16 with a mark":                {"\xff\xfe" + string(wide(good)), Wide, ""},
		"Latin-1":                           {"{\"name\":\"h\xe5vn\"}", NoUTF8, ""},
		"a rune that is cut off by a limit": {`{"jsonrpc":"2.0","id":7,"result":{"a":"` + "\xc3", BrokenJSON, ""},
		"gzip":                              {"\x1f\x8b\x08\x00", Compressed, ""},
		"framed":                            {"Content-Length: 36\r\n\r\n" + good, Framed, ""},
	} {
		r := ReadReply([]byte(row.raw), 7)
		assert.Equal(t, row.shape, r.Shape, name)
		assert.Equal(t, row.id, r.ID, name)
	}
	r := ReadReply([]byte(`{"jsonrpc":"2.0","id":7,"error":{"code":-32602,"message":"no","data":{"supported":["x"]}}}`), 7)
	require.NotNil(t, r.Error)
	assert.Equal(t, RPCError{-32602, "no", `{"supported":["x"]}`}, *r.Error)
	assert.True(t, ReadReply([]byte(`{"id":7,"result":{}}`), 7).Version, "it is none of JSON-RPC 2.0")
}

// The form of a credential is inspected without keeping anything of it.
func TestInspectCredential(t *testing.T) {
	t.Parallel()
	auth, key := Form{Header: "Authorization"}, Form{Header: "X-Api-Key"}
	bearer := Form{Header: "Authorization", Scheme: "Bearer"}
	basic := base64.StdEncoding.EncodeToString
	for name, row := range map[string]struct {
		form  Form
		value string
		want  Credential
		clean string
	}{
		"good":                {bearer, "Bearer hbr-4f2a", Credential{Form: bearer}, "hbr-4f2a"},
		"a key":               {key, "hbr-4f2a", Credential{Form: key}, "hbr-4f2a"},
		"no word":             {auth, "hbr-4f2a", Credential{Form: auth, NoScheme: true}, "hbr-4f2a"},
		"a word of its own":   {auth, "Token hbr-4f2a", Credential{Form: Form{Header: "Authorization", Scheme: "Token"}}, "hbr-4f2a"},
		"doubled":             {bearer, "Bearer bearer hbr-4f2a", Credential{Form: bearer, Doubled: "Bearer", Stray: "a blank within it"}, "hbr-4f2a"},
		"a blank after":       {key, "hbr-4f2a ", Credential{Form: key, Stray: "a blank before or after it"}, "hbr-4f2a"},
		"a line break":        {key, "hbr-4f2a\n", Credential{Form: key, Stray: LineBreak}, "hbr-4f2a"},
		"quotes":              {key, `"hbr-4f2a"`, Credential{Form: key, Stray: "quotes around it"}, "hbr-4f2a"},
		"curly quotes":        {key, "“hbr-4f2a”", Credential{Form: key, Stray: "quotes around it"}, "hbr-4f2a"},
		"unseen":              {key, "hbr-4f2a\u200b", Credential{Form: key, Stray: "a character that cannot be seen or is not ASCII"}, "hbr-4f2a"},
		"the header as well":  {key, "Authorization: Bearer hbr-4f2a", Credential{Form: key, Stray: "a blank within it"}, "hbr-4f2a"},
		"empty":               {key, "  ", Credential{Form: key, Empty: true}, ""},
		"only the word":       {bearer, "Bearer ", Credential{Form: bearer, Empty: true}, "Bearer"},
		"a variable":          {key, "${BERTHS_TOKEN}", Credential{Form: key, Placeholder: "${BERTHS_TOKEN}"}, "${BERTHS_TOKEN}"},
		"yours":               {key, "YOUR_API_KEY", Credential{Form: key, Placeholder: "YOUR_API_KEY"}, "YOUR_API_KEY"},
		"angles":              {key, "<token>", Credential{Form: key, Placeholder: "<token>"}, "<token>"},
		"a test key":          {key, "hbr_test_4f2a", Credential{Form: key, Environment: "test"}, "hbr_test_4f2a"},
		"a live key":          {key, "hbr-live-4f2a", Credential{Form: key, Environment: "live"}, "hbr-live-4f2a"},
		"no test in a word":   {key, "latest4f2a", Credential{Form: key}, "latest4f2a"},
		"basic":               {auth, "Basic " + basic([]byte("teo:pw")), Credential{Form: Form{Header: "Authorization", Scheme: "Basic"}}, basic([]byte("teo:pw"))},
		"basic without colon": {auth, "Basic " + basic([]byte("teo")), Credential{Form: Form{Header: "Authorization", Scheme: "Basic"}, Basic: "there is no colon between a name and a password in it"}, basic([]byte("teo"))},
		"no base64":           {auth, "Basic teo:pw", Credential{Form: Form{Header: "Authorization", Scheme: "Basic"}, Basic: "it is no base64"}, "teo:pw"},
	} {
		assert.Equal(t, row.want, InspectCredential(row.form, "", row.value), name)
		assert.Equal(t, row.clean, Clean(row.value), name)
	}
	part := base64.RawURLEncoding.EncodeToString
	jwt := part([]byte(`{}`)) + "." + part([]byte(`{"iss":"https://id.example","aud":["a","b"],"scope":"x y","scp":["z"],"exp":1790000000}`)) + ".s"
	c := InspectCredential(bearer, "", "Bearer "+jwt).Claims
	require.NotNil(t, c)
	assert.Equal(t, []string{"a", "b"}, c.Audience)
	assert.Equal(t, []string{"x", "y", "z"}, c.Scopes)
	assert.EqualValues(t, 1790000000, c.Expires.Unix())
	assert.Nil(t, InspectCredential(bearer, "", "Bearer a.b.c").Claims)
}

// What comes from outside is read without falling over.
func FuzzReading(f *testing.F) {
	for _, seed := range []string{`{"jsonrpc":"2.0","id":1}`, "Bearer x", "\xff\xfe{", "[", "a.b.c", "Content-Length: 1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r := ReadReply([]byte(text), 1)
		assert.NotEmpty(t, r.Shape)
		assert.LessOrEqual(t, len([]rune(r.Quote)), 161)
		_ = InspectCredential(Form{Header: "Authorization"}, "", text)
		assert.NotContains(t, Clean(text), "\n")
	})
}
