package work

import "time"

// looking is how often something is looked at until it holds: so many times, or for a time.
type looking struct {
	times int           // 0: as often as there is time for
	by    time.Time     // the last look is then
	every time.Duration // between two looks
}

// within looks for so long.
func within(d time.Duration) looking {
	return looking{by: time.Now().Add(d), every: pollEvery(d)}
}

// pollEvery is how often a device is asked whether something has come true.
func pollEvery(within time.Duration) time.Duration {
	return min(max(within/20, time.Second), 5*time.Second)
}

// until looks until something holds; it tells whether it does. Only a look that fails, or an
// order, ends it early. There is one look at least.
func (w *worker) until(l looking, look func() (bool, error)) (bool, error) {
	for n := 1; ; n++ {
		if ok, err := look(); ok || err != nil {
			return ok, err
		}
		pause := l.every
		if l.times == 0 {
			pause = min(time.Until(l.by), pause)
		}
		if n == l.times || pause <= 0 {
			return false, nil
		}
		if err := w.sleep(pause); err != nil {
			return false, err
		}
	}
}
