package patient

import (
	"context"
	"io"
	"os"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReaderReadsEverything(t *testing.T) {
	text := strings.Repeat("tide ", 40_000)
	for _, r := range []io.Reader{strings.NewReader(text), iotest.HalfReader(strings.NewReader(text)),
		iotest.DataErrReader(strings.NewReader(text))} {
		got, err := io.ReadAll(Reader(t.Context(), r))
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
	}
	_, err := io.ReadAll(Reader(t.Context(), iotest.ErrReader(io.ErrClosedPipe)))
	assert.ErrorIs(t, err, io.ErrClosedPipe)
}

// Who types nothing can still be interrupted.
func TestReaderEndsWithItsContext(t *testing.T) {
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer write.Close()
	defer read.Close()
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := io.ReadAll(Reader(ctx, read))
		ended <- err
	}()
	cancel()
	assert.ErrorIs(t, <-ended, context.Canceled)
}
