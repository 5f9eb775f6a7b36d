// Package e2e holds the tests that drive the real program in a real terminal:
// they start the binary in tmux with the demo's data, press keys, wait for what
// must appear, and look at the screen as a person does.
package e2e
