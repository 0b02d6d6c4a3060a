package main

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file is edited in the person's own editor, which has the terminal meanwhile;
// what comes of it lands, and is on the work list.
func TestHandsOnInARealTerminal(t *testing.T) {
	dir := t.TempDir()
	editor := filepath.Join(dir, "editor")
	require.NoError(
		t,
		os.WriteFile(
			editor,
			[]byte("#!/bin/sh\necho EDITOR HAS THE TERMINAL\nsleep 1\nprintf '/* from the editor */\\n' >> \"$1\"\n"),
			0o755,
		),
	)
	x := start(t, 128, 40, []string{"EDITOR=" + editor, "VISUAL=", "SHELL=/bin/bash"}, "demo", "--home",
		filepath.Join(dir, "demo"))
	x.sees("timetable-2028", "its run failed")
	x.keys("/")
	x.keys("timetable", "Enter")
	x.sees("find: timetable")
	x.keys("Down", "T")
	x.sees("5 of 9 variants pass", "PHP 8.4", "core 5.7.11")
	x.keys("Escape") // alone: with a key behind it, it would be that key with Alt
	x.sees("find: timetable")
	x.keys("C")
	x.sees("pin sheet next-spring", "the origin has 2.4.1")
	x.keys("Escape")
	x.sees("find: timetable")
	x.keys("f")
	x.sees("the copy's own", "files below")
	x.keys("m")
	x.sees("wp-content/themes/harbour/style.css")
	x.keys("G", "e")
	x.sees("EDITOR HAS THE TERMINAL")
	x.sees("DIFFERENCE", "+/* from the editor */")
	x.keys("Enter")
	x.sees("done in")
	x.keys("Escape")
	x.sees("SINCE IT WAS BROUGHT")
	x.keys("Tab", "Tab")
	x.sees("1 fatal", "tide_rows(): Argument #1")
	x.keys("Tab", "Tab")
	x.sees("accounts may do everything")
	x.keys("!")
	x.sees("/now/site") // the shell's prompt: what is typed before it may be lost
	x.keys("echo $ALIBI_SITE is $((6*7)); sleep 2; exit", "Enter")
	x.sees("timetable-2028 is 42")
	x.sees("accounts may do everything")
	x.keys("Tab")
	x.sees("moved Timetable to the front of the menu",
		"alibi carry timetable-2028 wp-content/themes/harbour/style.css skerryline.example")
	x.keys("Escape")
	x.sees("find: timetable")
	x.keys("V")
	x.sees("COMPONENT", "unlike its origin")
	// the sheet of timetable-2028 asks for a core that is not here
	x.keys("Right", "Right", "Right", "Right", "Right", "L")
	x.sees("core")
	x.keys("e")
	x.sees("EDITOR HAS THE TERMINAL")
	x.sees("line ") // what the editor wrote is no sheet, and its line is named
	x.keys("q")
	s := x.sees("ended with 0")
	assert.NotContains(t, s, "panic")
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "alibi-edit-*"))
	require.NoError(t, err)
	for end := time.Now().Add(2 * time.Second); len(left) > 0 &&
		time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		left, _ = filepath.Glob(filepath.Join(os.TempDir(), "alibi-edit-*"))
	}
	assert.Empty(t, left, "nothing of the editing is left")
}

// What changed on both sides is seen on one screen; a conflict is decided by hand, and all of it is brought home.
func TestChangesComeHomeInARealTerminal(t *testing.T) {
	dir := t.TempDir()
	editor := filepath.Join(dir, "editor")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\ngrep -c '^[<|>=]\\{7\\}' \"$1\"\nsleep 1\n"+
		"[ -e "+dir+"/again ] && echo 'Boats in all weathers' > \"$1\"\ntouch "+dir+"/again\n"), 0o755))
	x := start(t, 128, 40, []string{"EDITOR=" + editor, "VISUAL="}, "demo", "--home", filepath.Join(dir, "demo"))
	x.sees("timetable-2028", "its run failed")
	x.keys("/")
	x.keys("timetable", "Enter")
	x.sees("find: timetable")
	x.keys("Down", "d")
	x.sees("ON THE COPY", "setting 2", "on both sides 2", "Does the early boat take bicycles?")
	x.keys("Down", "e")
	x.sees("the marks <<<<<<<")
	x.keys("e")
	x.sees("what you wrote is to stand")
	x.keys("a", "Enter")
	x.sees("carry 10 items both ways", "to timetable-2028:", "plugin \"Tide Table\"", "takes")
	x.keys("Enter")
	x.sees("Type its name to go on")
	x.keys("skerryline.example", "Enter")
	x.sees("8 items carried from timetable-2028", "items carried from skerryline.example", "LIVE ")
	x.keys("Escape")
	x.sees("Nothing drifted: both sides are as they were")
}
