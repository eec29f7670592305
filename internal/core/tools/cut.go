package tools

import (
	"encoding/json"
	"fmt"
	"unicode/utf8"
)

// noteRoom is what is kept free for the note that something was left out.
const noteRoom = 400

// CutResult shortens the result of a tool to at most limit bytes, so that it stays a
// valid one: texts are cut between characters, other contents are kept whole or left
// out, and a note says what happened and how to ask for less. It reports false when
// that cannot be done: for a result that is no such object, or whose structured content
// has to keep a form.
func CutResult(result []byte, limit int, structured bool) ([]byte, bool) {
	var whole map[string]json.RawMessage
	var contents []json.RawMessage
	if structured || limit < 2*noteRoom || json.Unmarshal(result, &whole) != nil || json.Unmarshal(whole["content"], &contents) != nil {
		return nil, false
	}
	delete(whole, "structuredContent")
	delete(whole, "content")
	frame, err := json.Marshal(whole)
	room := limit - len(frame) - noteRoom
	if err != nil || room < 0 {
		return nil, false
	}
	kept := []json.RawMessage{}
	left := 0
	for _, c := range contents {
		if len(c) < room {
			kept, room = append(kept, c), room-len(c)-1
			continue
		}
		if short, ok := cutText(c, room); ok {
			kept = append(kept, short)
			room = 0
		} else {
			left++
		}
	}
	note := fmt.Sprintf(
		"[Bouncer: this result had %d bytes; %d are the most for this tool, so it was cut%s. "+
			"Ask for less: narrower arguments, fewer fields, or a page at a time.]", len(result), limit, leftOut(left))
	text, err := json.Marshal(map[string]string{"type": "text", "text": note})
	if err != nil {
		return nil, false
	}
	if whole["content"], err = json.Marshal(append(kept, text)); err != nil {
		return nil, false
	}
	out, err := json.Marshal(whole)
	return out, err == nil && len(out) <= limit
}

func leftOut(n int) string {
	if n == 0 {
		return ""
	}
	if n == 1 {
		return ", and one part of it was left out"
	}
	return fmt.Sprintf(", and %d parts of it were left out", n)
}

// cutText shortens a text content to about so many bytes.
func cutText(content json.RawMessage, room int) (json.RawMessage, bool) {
	var c map[string]json.RawMessage
	var kind, text string
	if json.Unmarshal(content, &c) != nil || json.Unmarshal(c["type"], &kind) != nil || kind != "text" {
		return nil, false
	}
	if json.Unmarshal(c["text"], &text) != nil {
		return nil, false
	}
	delete(c, "text")
	frame, err := json.Marshal(c)
	if room -= len(frame) + len(`,"text":""`); err != nil || room < 64 {
		return nil, false
	}
	// Escaping can lengthen a text sixfold, so it is measured.
	for keep := min(room, len(text)); keep > 0; keep = keep * 3 / 4 {
		for keep > 0 && keep < len(text) && !utf8.RuneStart(text[keep]) {
			keep--
		}
		short, err := json.Marshal(text[:keep])
		if err != nil {
			return nil, false
		}
		if len(short) <= room+2 {
			c["text"] = short
			out, err := json.Marshal(c)
			return out, err == nil
		}
	}
	return nil, false
}
