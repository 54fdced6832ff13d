package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"usherbench/demo"
	"usherbench/simbench"
	"usherbench/simbench/units"
)

const defaultSimbenchPort = 8760

func (a *app) simbench() *cobra.Command {
	var o simbench.Options
	var configFile string
	var childMode bool
	var layouts []string
	c := &cobra.Command{
		Use: "simbench", Short: "Run a simulated bench in a process of its own", Args: cobra.NoArgs,
		Long: `Run stand-ins for supplies, loads, cyclers and meters, with a unit in each bay, as
SCPI and Modbus servers on this machine. --write-config writes a configuration with which usher serve drives
them.

What can stand around a unit (--layouts, one for each bay):
` + layoutList(),
		Example: `  usher simbench --bays 2 --write-config usher.yaml
  usher serve --config usher.yaml --data bench           (in another terminal)
  usher simbench state
  usher simbench clip bay1 TN-2213 --fault weak-regulation
  usher simbench fault supply1 drop`,
		RunE: func(c *cobra.Command, _ []string) error {
			o.Faulty = demo.FaultyUnits()
			for _, l := range layouts {
				o.Layouts = append(o.Layouts, simbench.Layout(l))
			}
			b, err := simbench.Start(o)
			if err != nil {
				return err
			}
			defer b.Close()
			if configFile != "" {
				text, err := yaml.Marshal(demo.Config(b, o.TimeFactor))
				if err != nil {
					return err
				}
				if err := os.WriteFile(configFile, text, 0o600); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.out, "The simulated bench runs; its state is at %s/state\n", b.AdminURL())
			for _, i := range b.Instruments() {
				fmt.Fprintf(a.out, "  %-10s %s\n", i.Name, i.Address)
			}
			parentGone := make(chan struct{})
			if childMode {
				go func() {
					_, _ = io.Copy(io.Discard, a.in) // ends when the parent does
					close(parentGone)
				}()
			}
			select {
			case <-parentGone:
			case <-c.Context().Done():
			}
			return nil
		},
	}
	c.Flags().StringSliceVar(&layouts, "layouts", nil, "what stands around each unit, in the order of the bays")
	c.Flags().IntVar(&o.Bays, "bays", 2, "number of bays")
	c.Flags().BoolVar(&o.SharedSupply, "shared-supply", false, "feed bay1 and bay2 from the two channels of one supply")
	c.Flags().BoolVar(&o.SharedScope, "shared-scope", false,
		"have bays of the layout scoped share one scope, an input at the output of each of four units")
	c.Flags().BoolVar(&o.SharedCrosspoint, "shared-crosspoint", false,
		"have bays of the layout harness share one crosspoint, two at a time")
	c.Flags().IntVar(&o.BasePort, "port", defaultSimbenchPort, "first port; 0 takes free ones")
	c.Flags().Float64Var(&o.TimeFactor, "time-factor", 1, "speed of the bench's clock; the service needs the same")
	c.Flags().BoolVar(&o.Ideal, "ideal", false, "leave noise, instrument errors and rounding out")
	c.Flags().StringVar(&o.Over, "over", "tcp", "how stand-ins that take text messages are reached: "+
		strings.Join(simbench.Ways(), ", "))
	c.Flags().Float64Var(&o.LoadLeads, "load-leads", 0, "resistance of the leads to each load, ohms")
	c.Flags().BoolVar(&o.Announce, "announce", false, "announce these stand-ins by mDNS, on this computer only")
	c.Flags().BoolVar(&o.OneConnection, "one-connection", false, "every instrument takes one connection only")
	c.Flags().StringVar(&configFile, "write-config", "", "write a configuration for usher serve to this file")

	c.Flags().BoolVar(&childMode, "until-input-ends", false, "run until standard input ends, for a parent process")

	var admin string
	c.PersistentFlags().StringVar(&admin, "admin", fmt.Sprintf("http://127.0.0.1:%d", defaultSimbenchPort),
		"address of a running bench")
	state := &cobra.Command{Use: "state", Short: "Show what the bench itself knows: units, outputs, truth, switchings",
		Args:    cobra.NoArgs,
		Example: "  usher simbench state",
		RunE:    func(*cobra.Command, []string) error { return a.benchRequest(http.MethodGet, admin+"/state", nil) }}
	var unitFault string
	clip := &cobra.Command{Use: "clip BAY SERIAL", Short: "Put another unit in a bay", Args: cobra.ExactArgs(2),
		Example: "  usher simbench clip bay1 TN-2213 --fault weak-regulation",
		RunE: func(_ *cobra.Command, args []string) error {
			return a.benchRequest(http.MethodPut, admin+"/bays/"+args[0]+"/unit", map[string]string{"serial": args[1],
				"fault": unitFault})
		}}
	clip.Flags().StringVar(&unitFault, "fault", "",
		"what is wrong with the unit: "+strings.Join(units.Faults(), ", "))
	fault := &cobra.Command{Use: "fault INSTRUMENT FAULT|none", Short: "Break or mend an instrument; faults: " +
		strings.Join(simbench.FaultNames(), ", "), Args: cobra.ExactArgs(2),
		Example: "  usher simbench fault supply1 drop",
		RunE: func(_ *cobra.Command, args []string) error {
			what := strings.TrimPrefix(args[1], "none")
			return a.benchRequest(http.MethodPut, admin+"/instruments/"+args[0]+"/fault", map[string]string{"fault": what})
		}}
	thermal := &cobra.Command{Use: "thermal BAY FILE", Short: "Take a thermal picture of the unit in a bay",
		Args: cobra.ExactArgs(2),
		Long: `Take a picture with the thermal camera of the bench, of a unit that has bus bars, as PNG. It prints what the
ends of its colours stand for, as usher attach --scale takes it.`,
		Example: "  usher simbench thermal bay1 bars.png\n" +
			"  usher attach last bars.png --scale $(usher simbench thermal bay1 bars.png) --answer",
		RunE: func(_ *cobra.Command, args []string) error {
			header, picture, err := a.askBench(http.MethodGet, admin+"/bays/"+args[0]+"/thermal", nil)
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[1], picture, 0o600); err != nil {
				return err
			}
			scale := header.Get("Thermal-Scale")
			return a.done(map[string]string{"file": args[1], "scale": scale}, "%s\n", scale)
		}}
	c.AddCommand(state, clip, fault, thermal)
	return c
}

// benchRequest speaks to the admin route of a simulated bench and prints its answer.
func (a *app) benchRequest(method, address string, body any) error {
	_, text, err := a.askBench(method, address, body)
	if err != nil {
		return err
	}
	_, err = a.out.Write(text)
	return err
}

// askBench speaks to the admin route of a simulated bench.
func (a *app) askBench(method, address string, body any) (http.Header, []byte, error) {
	var reader io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return nil, nil, err
		}
		reader = bytes.NewReader(data)
	}
	request, err := http.NewRequest(method, address, reader)
	if err != nil {
		return nil, nil, err
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, nil, fmt.Errorf("no simulated bench answers: %w; start one with: usher simbench, or name it with --admin",
			err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, nil, err
	}
	if answer.StatusCode >= 400 {
		var problem struct{ Detail string }
		if json.Unmarshal(text, &problem) != nil || problem.Detail == "" {
			problem.Detail = string(text)
		}
		return nil, nil, fmt.Errorf("the simulated bench refused: %s", problem.Detail)
	}
	return answer.Header, text, nil
}

func layoutList() string {
	var list strings.Builder
	for _, l := range simbench.Layouts() {
		fmt.Fprintf(&list, "  %-14s %s\n", l, l.About())
	}
	return strings.TrimRight(list.String(), "\n")
}
