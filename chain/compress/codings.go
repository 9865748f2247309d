package compress

import (
	"io"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// An encoder codes one body after the other.
type encoder interface {
	io.WriteCloser
	Flush() error
	Reset(to io.Writer)
}

// The levels are where more time buys little: go run ./bench -levels prints sizes and times for the
// answers of the demo; by zstd a higher one makes them larger as often as smaller. The windows bound what an open stream keeps in memory.
const (
	zstdLevel  = zstd.SpeedFastest
	zstdWindow = 256 << 10
	brLevel    = 3
	brWindow   = 18 // 256 KiB
	gzipLevel  = 5
)

// pools keep encoders, by coding.
var pools = map[string]*sync.Pool{
	"zstd": {New: func() any { return newZstd(zstdLevel) }},
	"br": {New: func() any {
		return brotli.NewWriterOptions(io.Discard, brotli.WriterOptions{Quality: brLevel, LGWin: brWindow})
	}},
	"gzip": {New: func() any {
		z, err := gzip.NewWriterLevel(io.Discard, gzipLevel)
		if err != nil {
			panic(err) // the level is one of gzip's
		}
		return z
	}},
}

func newZstd(level zstd.EncoderLevel) *zstd.Encoder {
	z, err := zstd.NewWriter(io.Discard, zstd.WithEncoderLevel(level), zstd.WithWindowSize(zstdWindow),
		zstd.WithEncoderConcurrency(1), zstd.WithLowerEncoderMem(true))
	if err != nil {
		panic(err) // the options are some of zstd's
	}
	return z
}
