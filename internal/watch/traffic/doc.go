// Package traffic is what happens now: the sessions that are signed in and the
// transfers that run or have just ended. Readers ask for what changed since
// they last asked, so a slow reader costs nothing and misses nothing.
//
// It knows no protocol, no files and no HTTP, and keeps nothing on disk.
package traffic
