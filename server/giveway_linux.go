package server

import (
	"runtime"
	"syscall"
)

// giveWay lets all other processes come first: this goroutine keeps its thread, whose
// priority is the least. It still gets its sixtieth of a processor that is never idle,
// so that people can sign in on a machine that has all its hands full.
func giveWay() {
	runtime.LockOSThread()
	_ = syscall.Setpriority(syscall.PRIO_PROCESS, 0, 19)
}
