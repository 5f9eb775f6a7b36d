// Package screen is the application: one program for everything that is drawn full
// screen. It has the stack of views, the size of the window, the theme, the clock, the
// line of messages, the line of keys, the questions that wait for an answer, what is
// under way behind, and the plain page that takes the place of a view that fails. A
// view has none of these.
//
// # A view
//
// A [View] says what it is called, draws itself into a space, and says which keys it
// takes and what each does:
//
//	type View interface {
//		Name() string
//		Rows(f Frame) []ink.Row
//		Keys() []Key
//	}
//
// Rows draws what is there and nothing else: it is called for every frame, must be
// quick, and must not wait. Keys takes its keys from the table in package keys; a key
// that cannot do anything now is left out. Where a view wants more, it has one of the
// further methods:
//
//   - [Opener]: Opened gives it its [Host], with which it opens other views, says
//     something, asks, and has work done. Work ends with the view.
//   - [Closer]: Closed is called after it was left and its work has ended.
//   - [Backer] and [Returner]: told when it is about to be left, and when it is come
//     back to.
//   - [Pointed]: a click and the wheel of a mouse. Neither ever does more than to
//     choose and to scroll.
//
// What takes time is done behind: [Host.Work] while the person waits for it,
// [Host.Go] while they go on. What comes of it comes back through [Listen] or
// [Host.Then], in the same goroutine as the keys, so that a view needs no locks.
//
// Lists and texts are not written again: package list is a list with its cursor, its
// keys, finding and the mouse; package page is a text.
//
// # The night
//
// While something goes on whatever is looked at, a night, it is a [Standing]: its strip
// stands on top of every view, one key leads to what waits in it, and leaving the last
// view asks first.
//
// The smallest view is in the example; a new one begins as a copy of it.
package screen
