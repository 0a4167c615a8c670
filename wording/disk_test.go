package wording

import (
	"errors"
	"fmt"
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
)

type coded int

func (c coded) Error() string { return fmt.Sprintf("disk I/O error (%d)", int(c)) }
func (c coded) Code() int     { return int(c) }

func TestDiskErrors(t *testing.T) {
	for _, c := range []struct {
		err  error
		want string
	}{
		{coded(13), "no room left"},
		{coded(10 | 12<<8), "may be full, or broken"},
		{coded(8 | 6<<8), "can’t be written to"},
		{coded(26), "damaged"},
		{coded(5), "another program"},
		{&os.PathError{Op: "write", Path: "/secret/place", Err: syscall.ENOSPC}, "no room left"},
		{&os.PathError{Op: "open", Path: "/secret/place", Err: syscall.EROFS}, "can’t be written to"},
	} {
		got := Error(fmt.Errorf("failed to save: %w", c.err))
		assert.Contains(t, got, c.want)
		assert.NotContains(t, got, "secret")
	}
	for _, err := range []error{coded(1), errors.New("else")} {
		assert.Equal(t, err.Error(), Error(err))
	}
}
