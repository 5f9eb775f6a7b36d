// Package freight carries a file to a device, or fetches one from it, and says how it is known that it
// arrived as it was: by a checksum that the device told, or by nothing but its size.
//
// A file is written beside its name first, under a name that has a part of its checksum, so that only the
// same file is ever gone on with where it broke off. It bears its name once all of it is there and, where
// the device can tell, proven. What is there under that name and is another file is not written over unless
// that was asked for. How the bytes get there, and what the device is asked, is behind [Far] and [Teller].
package freight
