package main

import (
	"archive/zip"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"net/http/pprof"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

const (
	pallet     = 10_000 // devices of a list
	tlsClients = 16     // that shake hands at once
	tlsTime    = 4 * time.Second
	tlsOpen    = 5000 // connections whose memory is counted
)

// onboardingFigures measures lists of devices through the command line, and TLS with
// certificates of devices against a bare server of the standard library.
func onboardingFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "onboarding"))
	if err != nil {
		return nil, err
	}
	defer func() { s.Stop() }()
	var out []figure
	bare := bareCertificates(pallet)
	out = append(out, figure{fmt.Sprintf("ceiling: %d P-256 keys made and signed, on all processors", pallet), bare.Round(10 * time.Millisecond).String(), "", ""})
	for _, kind := range []string{"token", "certificate"} {
		took, err := loadList(s, filepath.Join(dir, kind), kind)
		if err != nil {
			return nil, err
		}
		if kind == "certificate" { // before and after: the machine is not always as fast
			bare = (bare + bareCertificates(pallet)) / 2
			out[0].got = bare.Round(10 * time.Millisecond).String()
		}
		f := figure{fmt.Sprintf("%d devices of a list, each with a bundle and a %s", pallet, kind), took.Round(100 * time.Millisecond).String(), "10 s", ""}
		if kind == "certificate" {
			f.target, f.ratio = "3 × bare", fmt.Sprintf("%.1f ×", float64(took)/float64(bare))
		}
		out = append(out, f)
	}
	page, err := joinPage(s)
	if err != nil {
		return nil, err
	}
	out = append(out, page)
	more, err := tlsFigures(dir, &s, filepath.Join(dir, "certificate", "bundles"))
	return append(out, more...), err
}

// joinPage measures from the navigation until the page Join can be used, with all these
// devices expected.
func joinPage(s *service.Service) (figure, error) {
	p, closeAll, err := signedIn(s)
	if err != nil {
		return figure{}, err
	}
	defer closeAll()
	var all []time.Duration
	for range 7 {
		if err := p.Go(s.Console + "/join"); err != nil {
			return figure{}, err
		}
		ms, err := browser.Eval[float64](p, `new Promise((done) => {
			const look = () => document.querySelectorAll("#join-model option").length > 1 && /[0-9] that have never been here/.test(document.querySelector("aside")?.innerText)
				? setTimeout(() => done(performance.now()), 0) : setTimeout(look, 5);
			look();
		})`)
		if err != nil {
			return figure{}, err
		}
		all = append(all, time.Duration(ms*float64(time.Millisecond)))
	}
	return figure{fmt.Sprintf("the page Join until it can be used, %d devices expected", 2*pallet), median(all).Round(time.Millisecond).String(), "1 s, of 10000", ""}, nil
}

// loadList onboards a list with the command line.
func loadList(s *service.Service, dir, kind string) (time.Duration, error) {
	fmt.Printf("%d devices with a %s each …\n", pallet, kind)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return 0, err
	}
	var b strings.Builder
	b.WriteString("id,model,label.site\n")
	for i := range pallet {
		fmt.Fprintf(&b, "tank-%s-%05d,tank-probe,Fennimore\n", kind, i)
	}
	list := filepath.Join(dir, "list.csv")
	if err := os.WriteFile(list, []byte(b.String()), 0o600); err != nil {
		return 0, err
	}
	args := []string{"device", "load", list, "--yes", "--out", filepath.Join(dir, "bundles")}
	if kind == "certificate" {
		args = append(args, "--cert")
	}
	begun := time.Now()
	_, errs, code := s.CLI("", args...)
	took := time.Since(begun)
	if code != 0 {
		return 0, fmt.Errorf("device load ends with %d: %s", code, errs)
	}
	return took, nil
}

// bareCertificates is how long it takes to make and sign so many keys.
func bareCertificates(n int) time.Duration {
	ca, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	parent := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "bare"}, NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	begun := time.Now()
	var wg sync.WaitGroup
	var next atomic.Int64
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for next.Add(1) <= int64(n) {
				k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
				if err != nil {
					panic(err)
				}
				if _, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "tank"}, NotAfter: time.Now().Add(time.Hour)},
					parent, k.Public(), ca); err != nil {
					panic(err)
				}
			}
		})
	}
	wg.Wait()
	return time.Since(begun)
}

// tlsFigures compares handshakes with certificates, and the memory of connections,
// with a bare TLS server in a process of its own that has the same certificate.
func tlsFigures(dir string, running **service.Service, bundles string) ([]figure, error) {
	s := *running
	o, err := s.Client.CreateDevice(context.Background(), client.NewDevice{ID: "tank-fennimore-07", Model: "tank-probe", NewCredential: client.NewCredential{Credential: "certificate"}})
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair([]byte(o.Certificate), []byte(o.Key))
	if err != nil {
		return nil, err
	}
	config := &tls.Config{Certificates: []tls.Certificate{pair}, InsecureSkipVerify: true}
	at, bareProfile, end, err := bareServer("tls")
	if err != nil {
		return nil, err
	}
	defer end()
	var out []figure
	fmt.Println("handshakes with certificates …")
	var ceiling, got []float64
	for range 3 {
		ceiling = append(ceiling, handshakes(at, config))
		got = append(got, handshakes(s.MQTTTLS, config))
	}
	out = append(out, figure{"ceiling: handshakes a second of a bare TLS server, with certificates", fmt.Sprintf("%.0f", middle(ceiling)), "", ""},
		figure{"handshakes a second of MQTT over TLS, with certificates", fmt.Sprintf("%.0f", middle(got)), "60 % of the ceiling", fmt.Sprintf("%.2f", middle(got)/middle(ceiling))})
	bareMemory, err := memoryOf(bareProfile, at, bundles)
	if err != nil {
		return nil, err
	}
	// What was done before is no part of it: a service that has just started is measured.
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	profile := free.Addr().String()
	free.Close()
	if err := s.Stop(); err != nil {
		return nil, err
	}
	if s, err = service.Start(s.Data, "--pprof", profile, "--log-level", "warn"); err != nil {
		return nil, err
	}
	*running = s
	memory, err := memoryOf(profile, s.MQTTTLS, bundles)
	if err != nil {
		return nil, err
	}
	return append(out, figure{fmt.Sprintf("ceiling: memory a TLS connection of a bare server, %d of them", tlsOpen), fmt.Sprintf("%.1f kB", bareMemory/1e3), "", ""},
		figure{fmt.Sprintf("memory a session of MQTT over TLS, %d of them", tlsOpen), fmt.Sprintf("%.1f kB", memory/1e3), "1.3 × bare", fmt.Sprintf("%.2f ×", memory/bareMemory)}), nil
}

// bareServer starts a server that does nothing with its connections, over TLS or plain,
// and returns where it listens and tells its memory.
func bareServer(kind string) (at, profile string, end func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return "", "", nil, err
	}
	bare := exec.Command(self, "-bare", kind)
	in, err := bare.StdinPipe()
	if err != nil {
		return "", "", nil, err
	}
	said, err := bare.StdoutPipe()
	if err != nil {
		return "", "", nil, err
	}
	if err := bare.Start(); err != nil {
		return "", "", nil, err
	}
	end = func() {
		in.Close() // which ends it
		bare.Wait()
	}
	line := make([]byte, 100)
	n, err := said.Read(line)
	if err != nil {
		end()
		return "", "", nil, err
	}
	at, profile, _ = strings.Cut(strings.TrimSpace(string(line[:n])), " ")
	return at, profile, end, nil
}

// handshakes counts those a second of some clients that do nothing else.
func handshakes(at string, config *tls.Config) float64 {
	var n atomic.Int64
	var wg sync.WaitGroup
	begun := time.Now()
	for range tlsClients {
		wg.Go(func() {
			for time.Since(begun) < tlsTime {
				c, err := tls.Dial("tcp", at, config)
				if err != nil {
					continue
				}
				n.Add(1)
				c.NetConn().(*net.TCPConn).SetLinger(0)
				c.NetConn().Close()
			}
		})
	}
	wg.Wait()
	return float64(n.Load()) / time.Since(begun).Seconds()
}

func middle(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// memoryOf is how many bytes of live heap and stacks a process has for each of many
// connections, of devices that have said who they are.
func memoryOf(profile, at, bundles string) (float64, error) {
	fmt.Printf("%d connections over TLS to %s …\n", tlsOpen, at)
	before, err := live(profile)
	if err != nil {
		return 0, err
	}
	conns := make([]*tls.Conn, 0, tlsOpen)
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	for i := range tlsOpen {
		id := fmt.Sprintf("tank-certificate-%05d", i)
		pair, err := pairOf(filepath.Join(bundles, id+".zip"), id)
		if err != nil {
			return 0, err
		}
		c, err := tls.Dial("tcp", at, &tls.Config{Certificates: []tls.Certificate{pair}, InsecureSkipVerify: true})
		if err != nil {
			return 0, err
		}
		conns = append(conns, c)
		hello := append([]byte{0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 0, 0, byte(len(id))}, id...)
		if _, err := c.Write(append([]byte{0x10, byte(len(hello))}, hello...)); err != nil {
			return 0, err
		}
		var back [4]byte
		if _, err := io.ReadFull(c, back[:]); err != nil || back[3] != 0 {
			return 0, fmt.Errorf("%s is not let in: %v %w", id, back, err)
		}
	}
	after, err := live(profile)
	return (after - before) / tlsOpen, err
}

// pairOf reads certificate and key out of the bundle of a device.
func pairOf(path, id string) (tls.Certificate, error) {
	r, err := zip.OpenReader(path)
	if err != nil {
		return tls.Certificate{}, err
	}
	defer r.Close()
	var parts [2][]byte
	for i, name := range []string{"device.crt", "device.key"} {
		if parts[i], err = fs.ReadFile(r, id+"/"+name); err != nil {
			return tls.Certificate{}, err
		}
	}
	return tls.X509KeyPair(parts[0], parts[1])
}

// bareTLS is the process that tlsFigures starts: a server of the standard library that
// asks for a certificate, and does nothing with a connection. It ends with its input.
func bareTLS(plain bool) error {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, k.Public(), k)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}))
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	if !plain {
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequestClientCert})
	}
	told, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go http.Serve(told, http.HandlerFunc(pprof.Index))
	fmt.Println(l.Addr(), told.Addr())
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				buf := make([]byte, 512) // it answers whatever comes as MQTT does a CONNECT
				if c, encrypted := c.(*tls.Conn); encrypted && c.Handshake() != nil {
					return
				}
				for {
					if _, err := c.Read(buf); err != nil {
						return
					}
					if _, err := c.Write([]byte{0x20, 2, 0, 0}); err != nil {
						return
					}
				}
			}()
		}
	}()
	_, err = io.Copy(io.Discard, os.Stdin)
	return err
}
