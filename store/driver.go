package store

import (
	"database/sql"
	"database/sql/driver"
	"time"

	"github.com/mattn/go-sqlite3"
)

// driverName is SQLite's driver with times in UTC: as SQLite compares times as texts, they are all written in one zone,
// whatever the zone of the computer is, was, or will be in summer.
const driverName = "sqlite3_utc"

func init() { sql.Register(driverName, &utcDriver{}) }

type utcDriver struct{ sqlite3.SQLiteDriver }

// Open implements driver.Driver.
func (d *utcDriver) Open(name string) (driver.Conn, error) {
	c, err := d.SQLiteDriver.Open(name)
	if err != nil {
		return nil, err
	}
	return &utcConn{c.(*sqlite3.SQLiteConn)}, nil
}

type utcConn struct{ *sqlite3.SQLiteConn }

// CheckNamedValue implements driver.NamedValueChecker.
func (c *utcConn) CheckNamedValue(v *driver.NamedValue) (err error) {
	if v.Value, err = driver.DefaultParameterConverter.ConvertValue(v.Value); err != nil {
		return err
	}
	if t, ok := v.Value.(time.Time); ok {
		v.Value = t.UTC()
	}
	return nil
}
