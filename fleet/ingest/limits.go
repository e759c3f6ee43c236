package ingest

import "time"

// Limits bound what one device or one stranger can ask of the service.
type Limits struct {
	Message  int           // bytes of one message
	Rate     float64       // messages a second of one device; 0 for no limit
	Connects int           // connections a minute of one device; 0 for no limit
	Failures int           // failed sign-ins a minute of one address
	Hello    time.Duration // from the connection to the end of CONNECT
	Sessions int           // sessions at once of one device
}

// DefaultLimits are those of docs/devices.md.
func DefaultLimits() Limits {
	return Limits{Message: MaxMessage, Rate: 50, Connects: 20, Failures: 30, Hello: 10 * time.Second, Sessions: 2}
}
