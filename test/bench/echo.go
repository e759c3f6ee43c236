package main

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"
)

// echoFigures compares lock-step MQTT with a ceiling that reads the same bytes
// from the same number of sockets in a process of its own, commits them in the
// same groups and answers with the same bytes, and knows nothing of MQTT, models
// or series. The two take turns, so that a slow phase of the machine hits both.
func echoFigures(dir string) ([]figure, error) {
	const turns = 5
	var ratios, floors []float64
	for i := range turns {
		fmt.Printf("echo and commit, then MQTT, %d connections in lock-step, turn %d …\n", connections, i+1)
		floor, err := echoLoop(filepath.Join(dir, fmt.Sprintf("echo-%d.db", i)))
		if err != nil {
			return nil, err
		}
		rate, _, _, err := mqttLoop(filepath.Join(dir, fmt.Sprintf("lockstep-%d", i)), 1)
		if err != nil {
			return nil, err
		}
		floors, ratios = append(floors, floor), append(ratios, rate/floor)
	}
	mid, low, high := spread(ratios)
	f, _, _ := spread(floors)
	return []figure{
		{fmt.Sprintf("ceiling: echo and group commit, %d connections × 1 under way", connections), fmt.Sprintf("%.0f/s", f), "", ""},
		{fmt.Sprintf("durable QoS 1 in lock-step against it, median of %d turns", turns), "", "0.8", fmt.Sprintf("%.2f (%.2f–%.2f)", mid, low, high)},
	}, nil
}

// echoLoop measures the ceiling with the load that MQTT gets.
func echoLoop(path string) (float64, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	cmd := exec.Command(self, "-echo", path)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return 0, err
	}
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	var address string
	if _, err := fmt.Fscan(out, &address); err != nil {
		return 0, err
	}
	lat := &latencies{}
	var count atomic.Int64
	var wg sync.WaitGroup
	failed := make(chan error, connections)
	begun := time.Now()
	end := begun.Add(measureFor)
	for i := range connections {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			return 0, err
		}
		defer conn.Close()
		wg.Add(1)
		go func() {
			defer wg.Done()
			n, err := pump(conn, fmt.Sprintf("tank-fennimore-%d", i+100), 1, end, lat)
			count.Add(n)
			if err != nil {
				failed <- err
			}
		}()
	}
	wg.Wait()
	select {
	case err := <-failed:
		return 0, err
	default:
	}
	return float64(count.Load()) / time.Since(begun).Seconds(), nil
}

// echo is the ceiling: the process that echoLoop starts.
func echo(path string) error {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return err
	}
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, "CREATE TABLE records (seq INTEGER PRIMARY KEY, data BLOB NOT NULL)"); err != nil {
		return err
	}
	insert, err := conn.PrepareContext(ctx, "INSERT INTO records (data) VALUES (?)")
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(l.Addr())
	type message struct {
		conn net.Conn
		body []byte
		id   [2]byte
	}
	queue := make(chan message, connections)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				r := bufio.NewReaderSize(c, 1024)
				for {
					var head [2]byte // the messages of the load are shorter than 128 bytes
					if _, err := io.ReadFull(r, head[:]); err != nil {
						return
					}
					body := make([]byte, head[1])
					if _, err := io.ReadFull(r, body); err != nil {
						return
					}
					at := 2 + int(body[1]) // behind the topic
					queue <- message{c, body, [2]byte(body[at : at+2])}
				}
			}()
		}
	}()
	var batch []message
	var record []byte
	for first := range queue {
		batch, record = append(batch[:0], first), append(record[:0], first.body...)
	more:
		for {
			select {
			case m := <-queue:
				batch, record = append(batch, m), append(record, m.body...)
			default:
				break more
			}
		}
		for _, q := range []string{"BEGIN IMMEDIATE", "", "COMMIT"} {
			if q == "" {
				_, err = insert.ExecContext(ctx, record)
			} else {
				_, err = conn.ExecContext(ctx, q)
			}
			if err != nil {
				return err
			}
		}
		for _, m := range batch {
			if _, err := m.conn.Write([]byte{0x40, 2, m.id[0], m.id[1]}); err != nil {
				return err
			}
		}
	}
	return nil
}
