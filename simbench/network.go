package simbench

import (
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"slices"

	"github.com/hashicorp/mdns"

	"usherbench/instrument/transport/hislip"
	"usherbench/instrument/transport/session"
	"usherbench/instrument/transport/vxi11"
)

// The ways in which stand-ins that take text messages can be reached.
const (
	overTCP    = "tcp"
	overHiSLIP = "hislip"
	overVXI11  = "vxi11"
)

// Ways lists how stand-ins that take text messages can be reached.
func Ways() []string { return []string{overTCP, overHiSLIP, overVXI11} }

// check refuses options that do not go together.
func (o Options) check() error {
	switch {
	case o.Over != "" && !slices.Contains(Ways(), o.Over):
		return fmt.Errorf("stand-ins are reached over %v, not over %q", Ways(), o.Over)
	case o.Over == overHiSLIP && o.OneConnection:
		return fmt.Errorf("an instrument that takes one connection only cannot be reached over HiSLIP, which needs two")
	}
	return nil
}

// reachOver has a stand-in reached as the options say.
func (b *Bench) reachOver(i *Instrument, texts *interpreter) {
	at, ok := i.listener.Addr().(*net.TCPAddr)
	if !ok {
		return // it is in memory
	}
	device := session.Device{Serve: texts.serve, Status: texts.status, Holder: &session.Lock{}}
	switch b.options.Over {
	case overHiSLIP:
		server := &hislip.Server{Device: device, Part: "hislip0"}
		i.server = network(server.Serve)
		i.Address = fmt.Sprintf("hislip://%s/hislip0", at)
	case overVXI11:
		server := &vxi11.Server{Device: device, Part: "inst0", Port: at.Port}
		i.server = network(server.Serve)
		i.Address = fmt.Sprintf("vxi11://%s/inst0?portmapper=%d", at.IP, at.Port)
	}
}

// services are the names of DNS-SD by which instruments announce that they are reached so.
var services = map[string]string{"": "_scpi-raw._tcp", overTCP: "_scpi-raw._tcp", overHiSLIP: "_hislip._tcp",
	overVXI11: "_vxi-11._tcp"}

// announce has the stand-ins that take text messages announce themselves by mDNS, on the loopback network of this
// computer only.
func (b *Bench) announce() error {
	interfaces, err := net.Interfaces()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(interfaces, func(i net.Interface) bool { return i.Flags&net.FlagLoopback != 0 })
	if at < 0 {
		return errors.New("this computer has no loopback network on which stand-ins could announce themselves")
	}
	for _, i := range b.instruments {
		if !i.texts || i.listener == nil {
			continue
		}
		listens, ok := i.listener.Addr().(*net.TCPAddr)
		if !ok {
			continue
		}
		service, err := mdns.NewMDNSService(i.Name, services[b.options.Over], "", i.Name+".local.", listens.Port,
			[]net.IP{listens.IP}, []string{"txtvers=1"})
		if err != nil {
			return fmt.Errorf("announce %s: %w", i.Name, err)
		}
		server, err := mdns.NewServer(&mdns.Config{Zone: service, Iface: &interfaces[at],
			Logger: log.New(io.Discard, "", 0)}) // each answers for itself, as instruments do
		if err != nil {
			return fmt.Errorf("announce %s: %w", i.Name, err)
		}
		b.announcing = append(b.announcing, server)
	}
	return nil
}

// network serves a connection of a protocol of networks.
type network func(conn net.Conn)

func (n network) serve(conn io.ReadWriteCloser) { n(conn.(net.Conn)) }
