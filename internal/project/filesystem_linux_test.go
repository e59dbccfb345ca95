package project

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFileSystemsHaveNames(t *testing.T) {
	for magic, name := range fileSystems {
		assert.NotNil(t, named(name), "%#x", magic)
	}
	assert.Nil(t, named("ext4"))
	assert.Nil(t, fileSystem("/proc"))
	assert.Nil(t, fileSystem("/no/such/folder"))
}
