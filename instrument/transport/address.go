package transport

import (
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/document"
	"usherbench/instrument/transport/hislip"
	"usherbench/instrument/transport/memory"
	"usherbench/instrument/transport/vxi11"
)

// The schemes of addresses.
const (
	TCP       = "tcp"
	Serial    = "serial"
	USBTMC    = "usbtmc"
	VXI11     = "vxi11"
	HiSLIP    = "hislip"
	ModbusRTU = "modbus-rtu"
	ModbusTCP = "modbus-tcp"
	// Memory is a part of this process; the option "as" says which of the other schemes it stands in for.
	Memory = "memory"
)

// Address is where an instrument is.
type Address struct {
	Scheme string
	// As is the scheme that a part of this process stands in for, TCP if it is not said; the scheme itself of all others.
	As string
	// Host is host:port, of the network schemes; of Memory the name of who listens.
	Host string
	// Path is the device, of the others. A path by id (/dev/serial/by-id/…) finds an adapter again that was
	// plugged in elsewhere. Of VXI11 and HiSLIP it is a slash and the part of the host, such as "/inst0".
	Path string
	// Mapped tells that Host is a port mapper's, which tells the port of the instrument (VXI11).
	Mapped bool
	// Lock tells that nobody else may use the instrument meanwhile (VXI11, HiSLIP).
	Lock bool
	// Unit is the instrument's number on a shared line or behind a gateway; 0: none.
	Unit int
	// Line says how a serial line is set.
	Line LineMode
	text string
	// network is how a part of this process is reached; nil: as everybody does.
	network *memory.Network
}

// Through is the address as it is reached by a process that has its own part of a network in memory.
func (a Address) Through(n *memory.Network) Address {
	a.network = n
	return a
}

// LineMode is how a serial line is set.
type LineMode struct {
	Baud, DataBits int
	Parity         string // none, even, odd, mark, space
	StopBits       string // 1, 1.5, 2
	Flow           string // none, rts-cts, xon-xoff
}

func (m LineMode) String() string {
	return fmt.Sprintf("%d baud, %d data bits, %s parity, %s stop bits, flow %s", m.Baud, m.DataBits, m.Parity, m.StopBits,
		m.Flow)
}

// String is the address as it was written.
func (a Address) String() string { return a.text }

// WithUnit is the address of another unit of the same line or gateway.
func (a Address) WithUnit(unit int) Address {
	a.Unit, a.text = unit, fmt.Sprintf("unit %d at %s", unit, a.Host+a.Path)
	return a
}

// Registers tells whether the instrument speaks Modbus; otherwise it takes text messages.
func (a Address) Registers() bool { return a.As == ModbusRTU || a.As == ModbusTCP }

// IsSerial tells whether the instrument is on a serial line, which others may share.
func (a Address) IsSerial() bool { return a.As == Serial || a.As == ModbusRTU }

var examples = map[string]string{
	TCP: "tcp://192.168.1.20:5025", Serial: "serial:///dev/ttyUSB0?baud=9600", USBTMC: "usbtmc:///dev/usbtmc0",
	VXI11: "vxi11://192.168.1.20/inst0", HiSLIP: "hislip://192.168.1.20/hislip0",
	ModbusRTU: "modbus-rtu:///dev/ttyUSB1?baud=9600&unit=3", ModbusTCP: "modbus-tcp://192.168.1.30:502?unit=1",
	Memory: "memory://supply1",
}

// Units that a Modbus server can have; 0 is the broadcast, which nobody answers, and the rest is reserved.
const (
	mostRTUUnit = 247
	mostTCPUnit = 255
)

var optionsOf = map[string][]string{
	TCP: {}, USBTMC: {}, ModbusTCP: {"unit"}, VXI11: {"lock", "portmapper"}, HiSLIP: {"lock"},
	Serial:    {"baud", "data", "parity", "stop", "flow", "unit"},
	ModbusRTU: {"baud", "data", "parity", "stop", "flow", "unit"},
	Memory:    {"as", "baud", "data", "parity", "stop", "flow", "unit"},
}

// Parse reads an address:
//
//	tcp://HOST:PORT
//	serial:///dev/…?baud=9600&data=8&parity=none&stop=1&flow=none&unit=1
//	usbtmc:///dev/usbtmc0
//	vxi11://HOST/inst0?lock=yes&portmapper=111, vxi11://HOST:PORT/inst0 without a port mapper
//	hislip://HOST/hislip0?lock=yes
//	modbus-rtu:///dev/…?unit=3&baud=9600…
//	modbus-tcp://HOST:PORT?unit=1
//	memory://NAME?as=modbus-tcp&unit=1, of a part of this process
func Parse(text string) (Address, error) {
	fail := func(format string, args ...any) (Address, error) {
		return Address{}, fmt.Errorf("address %q: "+format, append([]any{text}, args...)...)
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme == "" {
		return fail("write it like %s", examples[TCP])
	}
	allowed, known := optionsOf[u.Scheme]
	if !known {
		return fail("the transport %q is not known; %s", u.Scheme,
			document.Suggest(u.Scheme, slices.Collect(maps.Keys(optionsOf))))
	}
	a := Address{Scheme: u.Scheme, As: u.Scheme, text: text,
		Line: LineMode{Baud: 9600, DataBits: 8, Parity: "none", StopBits: "1", Flow: "none"}}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return fail("what follows the question mark cannot be read; write it like %s", examples[u.Scheme])
	}
	for key := range query {
		if !slices.Contains(allowed, key) {
			return fail("%q is no option of %s; %s", key, u.Scheme, document.Suggest(key, allowed))
		}
	}
	switch u.Scheme {
	case TCP, ModbusTCP:
		a.Host = u.Host
		if u.Scheme == ModbusTCP && u.Port() == "" && u.Hostname() != "" {
			a.Host += ":502"
		}
		port, err := strconv.Atoi(a.Host[strings.LastIndex(a.Host, ":")+1:])
		if u.Hostname() == "" || err != nil || port < 1 || port > 65535 || strings.Trim(u.Path, "/") != "" {
			return fail("a host and a port are needed, like %s", examples[u.Scheme])
		}
	case VXI11, HiSLIP:
		if !a.readPart(u, query) {
			return fail("a host and one of its parts are needed, like %s", examples[u.Scheme])
		}
	case Memory:
		if a.Host = u.Host; a.Host == "" || strings.Trim(u.Path, "/") != "" {
			return fail("the name of a part of this process is needed, like %s", examples[u.Scheme])
		}
		a.As = TCP
	default:
		if a.Path = u.Path; u.Host != "" || !strings.HasPrefix(a.Path, "/") || len(a.Path) < 2 {
			return fail("the path of a device is needed, with three slashes, like %s", examples[u.Scheme])
		}
	}
	if err := a.readOptions(query); err != nil {
		return fail("%w", err)
	}
	return a, nil
}

// readPart reads where a part of a host is that is reached over VXI-11 or HiSLIP; false if that is not said.
func (a *Address) readPart(u *url.URL, query url.Values) bool {
	port, part := strconv.Itoa(hislip.Port), "hislip0"
	if u.Scheme == VXI11 {
		port, part, a.Mapped = strconv.Itoa(vxi11.PortmapPort), "inst0", u.Port() == ""
	}
	if query.Has("portmapper") {
		port = query.Get("portmapper")
	}
	if u.Port() != "" {
		port = u.Port()
	}
	if name := strings.Trim(u.Path, "/"); name != "" {
		part = name
	}
	a.Host, a.Path, a.Lock = net.JoinHostPort(u.Hostname(), port), "/"+part, query.Get("lock") == "yes"
	n, err := strconv.Atoi(port)
	return u.Hostname() != "" && err == nil && n >= 1 && n <= 65535 && !strings.ContainsAny(part, "/ ")
}

func (a *Address) readOptions(query url.Values) error {
	whole := func(key string, to *int, least, most int) error {
		if !query.Has(key) {
			return nil
		}
		n, err := strconv.Atoi(query.Get(key))
		if err != nil || n < least || n > most {
			return fmt.Errorf("%s=%s: here belongs a whole number from %d to %d", key, query.Get(key), least, most)
		}
		*to = n
		return nil
	}
	word := func(key string, to *string, words ...string) error {
		if !query.Has(key) {
			return nil
		}
		if *to = query.Get(key); !slices.Contains(words, *to) {
			return fmt.Errorf("%s=%s is not possible; %s", key, *to, document.Suggest(*to, words))
		}
		return nil
	}
	if a.Scheme == Memory {
		if err := word("as", &a.As, TCP, Serial, ModbusRTU, ModbusTCP); err != nil {
			return err
		}
	}
	most := mostTCPUnit
	if a.IsSerial() {
		most = mostRTUUnit
	}
	if a.Registers() && query.Get("unit") == "0" {
		return fmt.Errorf("unit=0 is the broadcast, which nobody answers; give the instrument's own number, 1 to %d", most)
	}
	if a.As == ModbusRTU && !query.Has("unit") {
		return fmt.Errorf("the instrument's number on the line is missing; add unit=1 or what it is set to")
	}
	if a.As == ModbusTCP {
		a.Unit = 1
	}
	for _, err := range []error{
		word("lock", new(string), "yes", "no"), whole("portmapper", new(int), 1, 65535),
		whole("unit", &a.Unit, 1, most), whole("baud", &a.Line.Baud, 50, 4_000_000), whole("data", &a.Line.DataBits, 5, 8),
		word("parity", &a.Line.Parity, "none", "even", "odd", "mark", "space"), word("stop", &a.Line.StopBits, "1", "1.5",
			"2"),
		word("flow", &a.Line.Flow, "none", "rts-cts", "xon-xoff"),
	} {
		if err != nil {
			return err
		}
	}
	return nil
}
