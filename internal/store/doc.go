// Package store keeps what must survive a night: the journal of events, the
// backups of configurations, and the transcripts of what was said to devices.
//
// All of it lies in the workspace:
//
//	metabasis.db                       the journal (SQLite)
//	backups/DEVICE/2026-12-02T013412Z.cfg
//	transcripts/NIGHT/DEVICE.log
package store
