// Package night is what a night is, told in events: which devices it was for, what was intended
// and done on each, in which state each is, what was asked and decided.
//
// An [Event] is one thing that happened. They come from a run as they happen, and stand in the
// journal in that order; nothing else is known of a night. [Fold] makes a [Night] of them, and
// the screen, the journal's replay and the reports all fold the same way, so they cannot
// disagree. A fold is pure: it changes no night that was handed out, and stands whatever an old
// journal may hold, since a night is read many versions after it was written.
//
// A [State] is where a device is in its night. [Choice] and [Offer] are what a person may
// decide, and [Command] is what was decided. [Outline] is what a night was planned to be, kept
// in its first event.
package night
