//go:build linux || darwin || freebsd

package store

import "golang.org/x/sys/unix"

// diskFree returns the bytes that are free where a folder lies; -1 where that
// cannot be told.
func diskFree(dir string) int64 {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return -1
	}
	return int64(st.Bavail) * int64(st.Bsize)
}
