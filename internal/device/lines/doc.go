// Package lines works devices over a terminal: it types lines and reads what is printed.
//
// A [Session] is the interpreter of a profile: it works one device over any byte stream as
// its profile says, and knows nothing of the platform itself.
//
// A session never guesses by silence. After each line it sends, it waits for one of the
// prompts the profile knows, for a question it knows, or for a bounded time, and says which
// it got. Every change of mode is confirmed by the prompt. What a device prints is data: it
// is bounded, stripped of terminal control sequences, and never run.
//
// [Try] goes through a profile on a live device; [Explore] looks at one that nobody has
// taught yet, and drafts a profile of it.
package lines
