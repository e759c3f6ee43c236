// Package service starts the built binary as a user would, for end-to-end
// tests, benchmarks and pictures.
package service

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"ullage/client"
)

// Root returns the folder of the repository.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(filepath.Dir(file)))
}

// Binary returns the path of the built binary.
func Binary() string { return filepath.Join(Root(), "bin", "ullage") }

// Password is the first password of services that this package starts.
const Password = "correct-horse-cellar"

// Service is a running service.
type Service struct {
	Console, MQTT, HTTP string
	TLS, Certificate    string
	// MQTTTLS and HTTPTLS are for devices; Authority is the SHA-256 of whom they trust.
	MQTTTLS, HTTPTLS, Authority string
	Time                        string // where the time alone is told
	// Passphrase waits for that of the root key, which is told once, at the first start.
	Passphrase func() string
	Data       string
	PID        int
	Client     *client.Client
	Token      string
	// Familiar tells the service that its person was here before.
	Familiar string
	cmd      *exec.Cmd
	log      *output
	ended    chan struct{} // closed when it has
	exit     error         // how it ended
}

// output collects what a process prints.
type output struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.String()
}

// Start runs `ullage serve` on a data folder, on free loopback ports unless
// the flags say others, and waits until it is ready and somebody is signed in.
func Start(data string, flags ...string) (*Service, error) {
	args := append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0", "--listen-tls", "127.0.0.1:0", "--mqtt", "127.0.0.1:0",
		"--device-http", "127.0.0.1:0", "--mqtt-tls", "127.0.0.1:0", "--device-http-tls", "127.0.0.1:0"}, flags...)
	s := &Service{Data: data, log: &output{}, ended: make(chan struct{})}
	s.cmd = exec.Command(Binary(), args...)
	s.cmd.Dir = data
	os.MkdirAll(data, 0o700)
	s.cmd.Env = append(os.Environ(), "ULLAGE_FIRST_PASSWORD="+Password)
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	s.cmd.Stderr = s.log
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w; build it first with: make build", err)
	}
	s.PID = s.cmd.Process.Pid
	lines := make(chan string, 10)
	go func() {
		for sc := bufio.NewScanner(out); sc.Scan(); {
			lines <- sc.Text()
		}
		close(lines)
		io.Copy(io.Discard, out)
		s.exit = s.cmd.Wait()
		close(s.ended)
	}()
	timeout := time.After(45 * time.Second)
	for s.Authority == "" {
		select {
		case line, ok := <-lines:
			if !ok {
				<-s.ended // what it says at its end is there then
				return nil, fmt.Errorf("the service did not start: %s", strings.TrimSpace(s.log.String()))
			}
			if v, ok := strings.CutPrefix(line, "Console: "); ok {
				s.Console = v
			}
			if v, ok := strings.CutPrefix(line, "Console over TLS: "); ok {
				s.TLS = v
			}
			if v, ok := strings.CutPrefix(line, "SHA-256 of its certificate: "); ok {
				s.Certificate = v
			}
			if v, ok := strings.CutPrefix(line, "The time alone: "); ok {
				s.Time = v
			}
			if v, ok := strings.CutPrefix(line, "MQTT: "); ok {
				s.MQTT = v
			}
			if v, ok := strings.CutPrefix(line, "Device HTTP: "); ok {
				s.HTTP = v
			}
			if v, ok := strings.CutPrefix(line, "MQTT over TLS: "); ok {
				s.MQTTTLS = v
			}
			if v, ok := strings.CutPrefix(line, "Device HTTP over TLS: "); ok {
				s.HTTPTLS = v
			}
			if v, ok := strings.CutPrefix(line, "SHA-256 of the authority: "); ok {
				s.Authority = v
			}
		case <-timeout:
			s.Kill()
			return nil, fmt.Errorf("the service was not ready after 20 s: %s", s.log.String())
		}
	}
	rest := make(chan string, 1)
	go func() {
		for line := range lines {
			if v, ok := strings.CutPrefix(line, "Passphrase of the authority's root key, for when its certificates are renewed: "); ok {
				v, _, _ = strings.Cut(v, " ")
				rest <- v
			}
		}
	}()
	s.Passphrase = func() string { return <-rest }
	s.Client = client.New(s.Console, "")
	in, err := s.Client.SignIn(context.Background(), "engineer", Password)
	if err != nil {
		s.Kill()
		return nil, err
	}
	s.Token, s.Familiar = in.Token, in.Familiar
	return s, nil
}

// Log returns what the service has logged so far.
func (s *Service) Log() string { return s.log.String() }

// Kill ends the service at once, as a power cut would.
func (s *Service) Kill() {
	s.cmd.Process.Signal(syscall.SIGKILL)
	<-s.ended
}

// Stop ends the service gracefully and returns how it exited; also one that has
// ended already.
func (s *Service) Stop() error {
	s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.ended:
		return s.exit
	case <-time.After(45 * time.Second):
		s.Kill()
		return fmt.Errorf("the service did not stop within 15 s")
	}
}

// CLI runs a command of the binary against the service, and returns what it
// printed and its exit code.
func (s *Service) CLI(stdin string, args ...string) (stdout, stderr string, code int) {
	return Run(stdin, []string{"ULLAGE_URL=" + s.Console, "ULLAGE_TOKEN=" + s.Token,
		"ULLAGE_LOGIN=" + filepath.Join(s.Data, "login.json")}, args...)
}

// Run runs a command of the binary.
func Run(stdin string, env []string, args ...string) (stdout, stderr string, code int) {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, Binary(), args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Run()
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// Demo is a running `ullage demo`.
type Demo struct {
	Console, Password string
	Passwords         map[string]string // of everybody, by name
	cmd               *exec.Cmd
	ended             chan error
}

// The rows of the table that the demo prints: who, and with which password.
var signIn = regexp.MustCompile(`^  (\S+) +(\S+)   (owner|operator|viewer)`)

// StartDemo runs the demo and waits until it is ready.
func StartDemo(flags ...string) (*Demo, error) {
	d := &Demo{Passwords: map[string]string{}, ended: make(chan error, 1)}
	d.cmd = exec.Command(Binary(), append([]string{"demo"}, flags...)...)
	out, err := d.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	errs := &output{}
	d.cmd.Stderr = errs
	if err := d.cmd.Start(); err != nil {
		return nil, err
	}
	ready := make(chan struct{})
	go func() {
		for sc := bufio.NewScanner(out); sc.Scan(); {
			if v, ok := strings.CutPrefix(sc.Text(), "Console: "); ok {
				d.Console = v
			}
			if m := signIn.FindStringSubmatch(sc.Text()); m != nil {
				d.Passwords[m[1]] = m[2]
			}
			if strings.HasPrefix(sc.Text(), "Stop with") {
				d.Password = d.Passwords["engineer"]
				close(ready)
			}
		}
		d.ended <- d.cmd.Wait()
	}()
	select {
	case <-ready:
		return d, nil
	case err := <-d.ended:
		return nil, fmt.Errorf("the demo ended: %v: %s", err, errs.String())
	case <-time.After(4 * time.Minute):
		d.Stop()
		return nil, fmt.Errorf("the demo was not ready after 4 minutes: %s", errs.String())
	}
}

// Stop interrupts the demo as Ctrl-C would.
func (d *Demo) Stop() error {
	d.cmd.Process.Signal(syscall.SIGINT)
	select {
	case err := <-d.ended:
		return err
	case <-time.After(45 * time.Second):
		d.cmd.Process.Kill()
		return fmt.Errorf("the demo did not stop within 20 s")
	}
}
