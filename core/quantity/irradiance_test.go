package quantity

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIrradianceIsOneUnit(t *testing.T) {
	q, err := Parse("850 W/m²")
	require.NoError(t, err)
	assert.Equal(t, Quantity{850, Irradiance}, q)
	assert.Equal(t, "850 W/m²", q.String())
	assert.Equal(t, "850 W/m²", regexp.MustCompile(LiteralPattern()).FindString("850 W/m² and"))
	assert.NotEqual(t, Power, q.Dim)
}
