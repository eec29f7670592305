// Package pack makes messages between nodes small (zstd), and large again within a bound.
package pack

import (
	"fmt"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Max is how many bytes a message may have when it is unpacked.
const Max = 64 << 20

var (
	encoder = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(2))
		if err != nil {
			panic(err) // only for options that do not exist
		}
		return e
	})
	decoder = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(Max))
		if err != nil {
			panic(err)
		}
		return d
	})
)

// Pack makes a message small.
func Pack(raw []byte) []byte { return encoder().EncodeAll(raw, nil) }

// Unpack makes a message what it was. The error says that it was not packed, or would be larger
// than Max.
func Unpack(packed []byte) ([]byte, error) {
	raw, err := decoder().DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack a message: %w", err)
	}
	return raw, nil
}
