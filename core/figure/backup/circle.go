package backup

import (
	"errors"
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// mainsLoss is what the mains gives, less what it takes and what storage gained meanwhile: P_i − P_e − ΔE/T, W.
// The meter counts what comes from the mains as positive, what goes back as negative.
func mainsLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, in, err := read(rec, req, inputOf(req), "watts")
	if err != nil {
		return figure.Result{}, err
	}
	gained := req.Args[stored.Name] / (span.T1 - span.T0)
	f := figure.Of(in, in.Mean.Value-gained)
	f.KnownFrom(func(x []float64) float64 { return x[0] - gained }, in)
	if f.Value < -f.U {
		return figure.Result{}, record.Because(record.Implausible,
			"the loss would be %.4g W; check the direction of the meter", f.Value)
	}
	return f, nil
}

// recirculatedShare is 100·(1 − P_net/P_circ), %: of the power that the load takes, what the mains need not give.
func recirculatedShare(rec *record.Record, req figure.Request) (figure.Result, error) {
	_, net, round, err := both(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if math.Abs(round.Mean.Value) <= round.Floor() || round.Mean.Value == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the power that goes round is not told from 0")
	}
	share := func(x []float64) float64 { return 100 * (1 - x[0]/x[1]) }
	f := figure.Of(round, share([]float64{net.Mean.Value, round.Mean.Value}))
	f.KnownFrom(share, net, round)
	return f, nil
}

// inputOutputLoss is (E_i − E_o)/T, W. What storage gained is taken off E_i.
func inputOutputLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, in, out, err := both(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	gained := req.Args[stored.Name] / (span.T1 - span.T0)
	f := figure.Of(in, in.Mean.Value-gained-out.Mean.Value)
	f.KnownFrom(func(x []float64) float64 { return x[0] - gained - x[1] }, in, out)
	if f.Value < -f.U {
		return figure.Result{}, record.Because(record.Implausible, "more came out than went in: %.4g W", -f.Value)
	}
	return f, nil
}

// inputOutputEfficiency is 100·E_o/E_i, %.
func inputOutputEfficiency(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, in, out, err := both(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	gained := req.Args[stored.Name] / (span.T1 - span.T0)
	if math.Abs(in.Mean.Value-gained) <= in.Floor() || in.Mean.Value == gained {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the input is not told from 0")
	}
	share := func(x []float64) float64 { return 100 * x[1] / (x[0] - gained) }
	f := figure.Of(in, share([]float64{in.Mean.Value, out.Mean.Value}))
	f.KnownFrom(share, in, out)
	if f.Value > 100+f.U {
		return figure.Result{}, record.Because(record.Implausible, "more came out than went in: %.4g %%", f.Value)
	}
	return f, nil
}

// backupTime is from the loss of the mains to the output's first exit from its band that lasts, s.
func backupTime(rec *record.Record, req figure.Request) (figure.Result, error) {
	least, err := given(req, low)
	if err != nil {
		return figure.Result{}, err
	}
	nominalVolts, stated := req.Args[nominal.Name]
	if q, rated := rec.Ratings["nominal_line"]; !stated && rated {
		nominalVolts, stated = q.Value, true
	}
	if !stated {
		return figure.Result{}, record.Because(record.NoRating, "the nameplate does not state nominal_line; give nominal")
	}
	mains, err := mainsVolts(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	span, out, err := read(rec, req, outputOf(req), "volts")
	if err != nil {
		return figure.Result{}, err
	}
	loss, err := mains.Cross(req.Args[lost.Name]*nominalVolts, trace.Falling, 0)
	switch {
	case errors.Is(err, trace.ErrAlreadyBeyond):
		return figure.Result{}, record.Because(record.AlreadyBeyond, "the mains was away from the beginning")
	case err != nil:
		return figure.Result{}, record.Because(record.NotReached, "the mains was never away")
	}
	loss.T = math.Max(loss.T, span.T0)
	after := out.Spanning(loss.T, span.T1)
	exit, err := firstExit(after, least, req.Args[high.Name], req.Args[lasting.Name])
	switch {
	case errors.Is(err, trace.ErrAlreadyBeyond):
		return figure.Result{}, record.Because(record.AlreadyBeyond, "the output was outside its band when the mains went")
	case err != nil:
		return figure.Result{}, record.Because(record.NotReached, "the output stayed in its band to the end").
			Least(span.T1-loss.T, "s")
	}
	f := figure.Of(out, exit.T-loss.T)
	slope := (after.X[exit.K+1] - after.X[exit.K]) / (after.T[exit.K+1] - after.T[exit.K])
	out.Mean.Value, out.Mean.Noise, out.Mean.N = after.X[exit.K], out.Noise(), 0
	f.KnownFrom(func(x []float64) float64 { return (x[0] - after.X[exit.K]) / slope }, out)
	return f, nil
}

// mainsVolts are the volts of the mains over the stage that a request names, with the reading before it: where the
// stage itself takes the mains away, none in it sees them.
func mainsVolts(rec *record.Record, req figure.Request) (record.Measured, error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return record.Measured{}, err
	}
	return rec.Measured(inputOf(req)+".volts", math.Max(0, span.T0-math.Max(span.AtLeast, rec.AtLeast)), span.T1)
}

// firstExit is where volts leave a band for longer than a time.
func firstExit(s trace.Series, least, most, lasts float64) (exit trace.Crossing, err error) {
	exit, err = s.Cross(least, trace.Falling, lasts)
	above, over := s.Cross(most, trace.Rising, lasts)
	if over == nil && (err != nil || above.T < exit.T) || errors.Is(over, trace.ErrAlreadyBeyond) {
		return above, over
	}
	return exit, err
}
