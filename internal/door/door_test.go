package door

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// pair is a door: the keeper's end, and what is inside by the number of its socket.
func pair(t *testing.T) (keeper *os.File, fd int) {
	t.Helper()
	p, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	require.NoError(t, err)
	keeper = os.NewFile(uintptr(p[0]), "keeper")
	t.Cleanup(func() { _ = keeper.Close() })
	return keeper, p[1]
}

func TestWhatIsLeftToTheNextScreen(t *testing.T) {
	keeper, fd := pair(t)
	require.NoError(t, json.NewEncoder(keeper).Encode(handed{Told: json.RawMessage(`{"word":"lamp"}`)}))
	i, err := Enter(fd)
	require.NoError(t, err)
	var told struct{ Word string }
	require.NoError(t, i.Told(&told))
	assert.Equal(t, "lamp", told.Word)
	select {
	case <-i.Gone():
		t.Fatal("the keeper is there")
	case <-time.After(10 * time.Millisecond):
	}
	require.NoError(t, i.Hand([]string{"attach", "--wheel"}, map[string]string{"word": "lamp"}))
	var got handed
	require.NoError(t, json.NewDecoder(keeper).Decode(&got))
	assert.Equal(t, []string{"attach", "--wheel"}, got.Args)
	assert.JSONEq(t, `{"word":"lamp"}`, string(got.Told))
}

// Who is inside sees that nobody keeps the door any more.
func TestTheKeeperIsGone(t *testing.T) {
	keeper, fd := pair(t)
	require.NoError(t, json.NewEncoder(keeper).Encode(handed{}))
	i, err := Enter(fd)
	require.NoError(t, err)
	require.NoError(t, i.Told(&struct{}{}), "nothing was left")
	require.NoError(t, keeper.Close())
	<-i.Gone()
	require.Error(t, i.Hand(nil, nil), "nobody is there to whom it could be said")
	keeper, fd = pair(t)
	require.NoError(t, keeper.Close())
	_, err = Enter(fd)
	require.ErrorContains(t, err, "the terminal is gone already")
}

// The flag is for ourselves: what is no socket of ours is refused.
func TestNoDoor(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "file"))
	require.NoError(t, err)
	defer f.Close()
	for _, fd := range []int{int(f.Fd()), 99999} {
		_, err := Enter(fd)
		require.ErrorContains(t, err, "it names no socket here")
	}
}
