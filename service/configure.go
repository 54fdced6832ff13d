package service

import (
	"encoding/csv"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/core/document"
	"usherbench/instrument/dialect"
)

func (s *Service) benchConfig(c *echo.Context) error {
	config, err := s.engine.Bench().Documented()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, config)
}

// configured answers a change of the bench with the bench as it is then.
func (s *Service) configured(c *echo.Context, err error) error {
	if err != nil {
		return err
	}
	return s.benchConfig(c)
}

func (s *Service) putInstrument(c *echo.Context) error {
	body, err := bind[api.InstrumentConfig](c)
	if err != nil {
		return err
	}
	return s.configured(c, s.engine.Bench().PutInstrument(who(c), c.Param("instrument"), body))
}

func (s *Service) removeInstrument(c *echo.Context) error {
	return s.configured(c, s.engine.Bench().RemoveInstrument(who(c), c.Param("instrument")))
}

func (s *Service) putBay(c *echo.Context) error {
	body, err := bind[api.BayConfig](c)
	if err != nil {
		return err
	}
	return s.configured(c, s.engine.Bench().PutBay(who(c), c.Param("bay"), body))
}

func (s *Service) removeBay(c *echo.Context) error {
	return s.configured(c, s.engine.Bench().RemoveBay(who(c), c.Param("bay")))
}

func (s *Service) discover(c *echo.Context) error {
	body, err := bind[api.Discovery](c)
	if err != nil {
		return err
	}
	found, err := s.engine.Bench().Discover(c.Request().Context(), body)
	if err != nil {
		return err
	}
	if found == nil {
		found = []api.Found{}
	}
	return c.JSON(http.StatusOK, found)
}

func (s *Service) exchanges(c *echo.Context) error {
	limit, err := wholeParam(c, "limit", 200, 1, 1000)
	if err != nil {
		return err
	}
	list, err := s.engine.Bench().Exchanges(c.Param("instrument"), limit)
	if err != nil {
		return err
	}
	switch format := c.QueryParamOr("format", "json"); format {
	case "json":
		return c.JSON(http.StatusOK, list)
	case "csv":
		attach(c.Response(), "text/csv; charset=utf-8", c.Param("instrument")+"_messages.csv")
		return writeExchanges(c.Response(), list)
	default:
		return badRequest(fmt.Sprintf("format %q is not known", format), "choose csv or json")
	}
}

func writeExchanges(w http.ResponseWriter, list []api.Exchange) error {
	out := csv.NewWriter(w)
	if err := out.Write([]string{"at", "message", "answer", "latency_ms", "error"}); err != nil {
		return err
	}
	for _, x := range list {
		if err := out.Write([]string{x.At.Format(time.RFC3339Nano), x.Message, x.Answer, strconv.FormatFloat(x.Latency*1000,
			'f', 3, 64), x.Error}); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func (s *Service) takeOver(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	taken, err := b.TakeOver(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, taken)
}

func (s *Service) changeSensor(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	body, err := bind[api.SensorChange](c)
	if err != nil {
		return err
	}
	return s.configured(c, b.ChangeSensor(who(c), c.Param("seat"), c.Param("quantity"), body))
}

func (s *Service) drill(c *echo.Context) error {
	b, err := s.engine.Bay(c.Param("bay"))
	if err != nil {
		return err
	}
	result, err := b.Drill(c.Request().Context(), who(c))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, result)
}

func (s *Service) drillHouse(c *echo.Context) error {
	all, err := s.engine.Drill(c.Request().Context(), who(c))
	if err != nil {
		return err
	}
	last, err := s.drills()
	if err != nil {
		return err
	}
	last.Bays = all
	return c.JSON(http.StatusOK, last)
}

func (s *Service) lastDrill(c *echo.Context) error {
	last, err := s.drills()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, last)
}

// drills describes the last drill.
func (s *Service) drills() (api.Drills, error) {
	entry, err := s.engine.LastDrill()
	if err != nil || entry == nil {
		return api.Drills{}, err
	}
	return api.Drills{At: &entry.At, By: entry.By, Words: entry.Detail}, nil
}

func (s *Service) preflight(c *echo.Context) error {
	body, err := bind[api.StartRun](c)
	if err != nil {
		return err
	}
	b, err := s.engine.Bay(body.Bay)
	if err != nil {
		return err
	}
	if body, err = s.asked(c, body); err != nil {
		return err
	}
	p, err := b.Preflight(c.Request().Context(), body)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, p)
}

func (s *Service) listDialects(c *echo.Context) error {
	library := s.engine.Bench().Dialects()
	list := []api.Dialect{}
	for _, name := range slices.Sorted(maps.Keys(library)) {
		d := bench.DescribeDialect(library[name])
		d.Text = ""
		list = append(list, d)
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Service) showDialect(c *echo.Context) error {
	library := s.engine.Bench().Dialects()
	d, ok := library[c.Param("dialect")]
	if !ok {
		return &api.Problem{Title: "Not found", Status: http.StatusNotFound, Detail: fmt.Sprintf("dialect %q; %s",
			c.Param("dialect"),
			document.Suggest(c.Param("dialect"), slices.Collect(maps.Keys(library))))}
	}
	return c.JSON(http.StatusOK, bench.DescribeDialect(d))
}

func (s *Service) checkDialect(c *echo.Context) error {
	body, err := bind[api.PushText](c)
	if err != nil {
		return err
	}
	d, err := s.engine.Bench().Dialects().Read(dialect.Source{File: "sent", Text: body.Text})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, bench.DescribeDialect(d))
}

func (s *Service) pushDialect(c *echo.Context) error {
	body, err := bind[api.PushText](c)
	if err != nil {
		return err
	}
	d, err := s.engine.Bench().PutDialect(who(c), body.Text)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, bench.DescribeDialect(d))
}
