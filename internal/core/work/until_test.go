package work

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestUntil(t *testing.T) {
	gone := errors.New("gone")
	for name, c := range map[string]struct {
		looking looking
		holds   int // at which look; 0 is never
		fails   int
		orders  time.Duration // when it is to be taken back; 0 is never
		back    bool          // it is on its way back already
		held    bool
		err     error
		looks   int
		took    time.Duration
	}{
		"at once":                        {looking: looking{times: 3, every: time.Second}, holds: 1, held: true, looks: 1},
		"at the last look":               {looking: looking{times: 3, every: time.Second}, holds: 3, held: true, looks: 3, took: 2 * time.Second},
		"never":                          {looking: looking{times: 3, every: time.Second}, looks: 3, took: 2 * time.Second},
		"once":                           {looking: looking{times: 1, every: time.Hour}, looks: 1},
		"a look fails":                   {looking: looking{times: 3, every: time.Second}, fails: 2, err: gone, looks: 2, took: time.Second},
		"for a time":                     {looking: looking{by: time.Unix(946684825, 0), every: 10 * time.Second}, looks: 4, took: 25 * time.Second},
		"no time":                        {looking: looking{every: time.Second}, looks: 1},
		"taken back meanwhile":           {looking: looking{times: 9, every: time.Minute}, orders: 90 * time.Second, err: errTakeBack, looks: 2, took: 90 * time.Second},
		"taken back, on its way back":    {looking: looking{times: 3, every: time.Minute}, orders: 90 * time.Second, back: true, looks: 3, took: 2 * time.Minute},
		"taken back, and it holds first": {looking: looking{times: 9, every: time.Minute}, orders: 90 * time.Second, holds: 2, held: true, looks: 2, took: time.Minute},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := &worker{ctx: context.Background(), orders: NewOrders(), reverting: c.back}
				if c.orders > 0 {
					defer time.AfterFunc(c.orders, w.orders.TakeBack).Stop()
				}
				began, looks := time.Now(), 0
				held, err := w.until(c.looking, func() (bool, error) {
					looks++
					if looks == c.fails {
						return false, gone
					}
					return looks == c.holds, nil
				})
				assert.Equal(t, c.held, held)
				assert.ErrorIs(t, err, c.err)
				assert.Equal(t, c.looks, looks)
				assert.Equal(t, c.took, time.Since(began))
			})
		})
	}
}
