package meter

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"vividstrain/core/sense"
)

// MQTT is a meter that subscribes to a topic of a broker, to which a metering plug sends JSON or
// plain numbers.
type MQTT struct {
	pace
	lacks
	client mqtt.Client
	broker string
	topic  string
	picks  []Pick

	state  sync.Mutex      // protects what follows
	fresh  []sense.Reading // not yet returned by Sample
	at     time.Time       // of the last message
	read   time.Time       // of the readings returned last
	failed error           // error of the last message or connection
	begun  time.Time
}

// NewMQTT returns a meter that connects to a broker, given like mqtt://box:1883, and stays
// connected.
func NewMQTT(name, broker, topic, user, password string, every time.Duration, picks []Pick) (*MQTT, error) {
	u, err := url.Parse(broker)
	if err != nil || u.Host == "" || u.Scheme != "mqtt" && u.Scheme != "mqtts" && u.Scheme != "tcp" {
		return nil, fmt.Errorf("%q is not a broker like mqtt://box:1883", Plain(broker))
	}
	if topic == "" {
		return nil, errors.New("a topic is needed")
	}
	if u.Port() == "" {
		u.Host += map[string]string{"mqtts": ":8883"}[u.Scheme]
		if u.Scheme != "mqtts" {
			u.Host += ":1883"
		}
	}
	u.Scheme = map[string]string{"mqtts": "tls"}[u.Scheme]
	if u.Scheme == "" {
		u.Scheme = "tcp"
	}
	m := &MQTT{pace: pace{"mqtt", name, every}, broker: Plain(broker), topic: topic, picks: picks, begun: time.Now()}
	m.failed = fmt.Errorf("%s: it is not reached yet", m.broker)
	o := mqtt.NewClientOptions().AddBroker(u.String()).SetClientID("vividstrain-" + rand.Text()[:10]).SetUsername(user).SetPassword(password).
		SetConnectRetry(true).SetConnectRetryInterval(2 * time.Second).SetMaxReconnectInterval(10 * time.Second).
		SetConnectTimeout(5 * time.Second).SetOrderMatters(true).SetCleanSession(true)
	o.SetOnConnectHandler(func(c mqtt.Client) { m.subscribe(c) })
	o.SetConnectionLostHandler(func(_ mqtt.Client, err error) { m.fail(fmt.Errorf("%s: the connection is lost: %w", m.broker, err)) })
	o.SetConnectionNotificationHandler(func(_ mqtt.Client, n mqtt.ConnectionNotification) {
		if f, ok := n.(mqtt.ConnectionNotificationBrokerFailed); ok {
			m.fail(fmt.Errorf("%s: %w", m.broker, f.Reason))
		}
	})
	m.client = mqtt.NewClient(o)
	m.client.Connect()
	return m, nil
}

func (m *MQTT) subscribe(c mqtt.Client) {
	m.fail(nil)
	token := c.Subscribe(m.topic, 0, func(_ mqtt.Client, message mqtt.Message) { m.take(message.Payload()) })
	go func() {
		if token.WaitTimeout(5*time.Second) && token.Error() != nil {
			m.fail(fmt.Errorf("%s: topic %s: %w", m.broker, m.topic, token.Error()))
		}
	}()
}

func (m *MQTT) fail(err error) {
	m.state.Lock()
	defer m.state.Unlock()
	m.failed, m.begun = err, time.Now()
}

// take handles one message.
func (m *MQTT) take(payload []byte) {
	m.begin()
	list, err := pickJSON(payload, m.picks, nil, &m.lacks)
	m.state.Lock()
	defer m.state.Unlock()
	if m.failed = nil; err != nil {
		m.failed = fmt.Errorf("topic %s: the message, %w", m.topic, err)
	}
	if len(list) > 0 {
		m.fresh, m.at = list, time.Now()
	}
}

// ReadAt returns when the message came.
func (m *MQTT) ReadAt() time.Time {
	m.state.Lock()
	defer m.state.Unlock()
	return m.read
}

// Sample returns what came since the last call.
func (m *MQTT) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	m.state.Lock()
	defer m.state.Unlock()
	list = append(list, m.fresh...)
	if len(m.fresh) > 0 {
		m.read = m.at
	}
	m.fresh = nil
	last := m.at
	if last.IsZero() {
		last = m.begun
	}
	if m.failed == nil && now.Sub(last) > quietTime {
		return list, fmt.Errorf("topic %s: no message for %s", m.topic, quietTime)
	}
	return list, m.failed
}

// Close ends the connection.
func (m *MQTT) Close() error { m.client.Disconnect(100); return nil }
