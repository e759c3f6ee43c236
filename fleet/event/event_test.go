package event_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"ullage/fleet/event"
)

// TestOrder publishes from many goroutines: the news of each device must come
// in its order, and each shard from one goroutine at a time.
func TestOrder(t *testing.T) {
	b := event.NewBus()
	last := make([]map[string]time.Time, event.Shards)
	var busy [event.Shards]sync.Mutex
	for i := range last {
		last[i] = map[string]time.Time{}
	}
	told := make([]int, event.Shards)
	b.Handle(func(shard int, e event.Event) {
		if !busy[shard].TryLock() {
			t.Error("two handlers run for one shard")
			return
		}
		defer busy[shard].Unlock()
		r, ok := e.(event.Refused)
		if !ok {
			return
		}
		if event.ShardOf(r.Device) != shard || r.At.Before(last[shard][r.Device]) {
			t.Errorf("%s at %s on shard %d after %s", r.Device, r.At, shard, last[shard][r.Device])
		}
		last[shard][r.Device] = r.At
		told[shard]++
	})
	b.Start()
	var wg sync.WaitGroup
	for d := range 20 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range 200 {
				b.Publish(event.Refused{Device: fmt.Sprintf("tank-%d", d), At: time.Unix(int64(i), 0)})
			}
		}()
	}
	wg.Wait()
	b.Settle()
	sum := 0
	for _, n := range told {
		sum += n
	}
	if sum != 4000 || b.Behind() != 0 {
		t.Errorf("%d were told, %d are behind", sum, b.Behind())
	}
	b.Stop()
}

func TestHandlersMayPublish(t *testing.T) {
	b := event.NewBus()
	var got []string
	b.Handle(func(_ int, e event.Event) {
		switch e := e.(type) {
		case event.Device:
			b.Publish(event.Settings{Device: e.Device})
		case event.Settings:
			got = append(got, e.Device)
		}
	})
	b.Start()
	b.Publish(event.Device{Device: "a"})
	b.Settle()
	b.Settle() // what the handler published counts from here
	b.Stop()
	if len(got) != 1 {
		t.Errorf("told %v", got)
	}
}

func TestNewsForAllReachesEveryShard(t *testing.T) {
	b := event.NewBus()
	var mu sync.Mutex
	seen := map[int]int{}
	b.Handle(func(shard int, e event.Event) { mu.Lock(); seen[shard]++; mu.Unlock() })
	b.Start()
	b.Publish(event.Rules{})
	b.Stop()
	if len(seen) != event.Shards {
		t.Errorf("%d shards were told", len(seen))
	}
}
