// Package e2e holds the tests that drive the real program in a real terminal:
// they start the binary in tmux with the demo's data, press keys, wait for what
// must appear, and look at the screen as a person does.
//
// The go command cannot know that they depend on the program, so a result it
// has kept may be stale: run them with -count=1, as make test does.
package e2e
