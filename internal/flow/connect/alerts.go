package connect

import (
	"pingo/internal/flow/alarm"
)

// Alerts is whom the definition in force wants to be told, and when.
func (c *Connections) Alerts() (alarm.Target, error) {
	a := c.Definition().Alerts
	out := alarm.Target{Limits: a.Limits}
	if a.URL.Written == "" {
		return out, nil
	}
	secret, err := a.Secret.Reveal(c.Secrets.Lookup)
	if err != nil {
		return out, err
	}
	url, err := a.URL.Reveal(c.Secrets.Lookup)
	if err != nil {
		return out, err
	}
	out.URL, out.Secret = url, secret
	return out, nil
}
