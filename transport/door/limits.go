package door

import (
	"time"

	"ullage/fleet/ingest"
)

// Limits bound what one device or one stranger can ask of the service. Those of
// a device hold for all its sessions and all doors together.
type Limits struct {
	Message  int           // bytes of one message
	Rate     float64       // messages a second of one device; 0 for no limit
	Connects int           // connections a minute of one device; 0 for no limit
	Failures int           // failed sign-ins a minute of one address; 0 for no limit
	Hello    time.Duration // from the connection until the device has said who it is
	Sessions int           // sessions at once of one device
	Waits    int           // requests of one device that wait for news at once
}

// DefaultLimits are those of docs/devices.md.
func DefaultLimits() Limits {
	return Limits{Message: ingest.MaxMessage, Rate: 50, Connects: 20, Failures: 30, Hello: 10 * time.Second,
		Sessions: 2, Waits: 4}
}
