package standin

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net"
	"strings"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"
)

// mqttBroker is a real broker within the process, which is reached without a port. What
// is published to it is noted and answered as the stand-in is told to; what it takes, it
// hands on to who subscribes, as brokers do.
type mqttBroker struct {
	server *mqtt.Server
	inline *mqtt.Client // through which a person publishes
}

func newMQTT(sys *System, now func() time.Time, changed func()) (speaker, error) {
	server := mqtt.New(&mqtt.Options{InlineClient: true, Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err := server.AddHook(&brokerHook{sys: sys, now: now, changed: changed}, nil); err != nil {
		return nil, err
	}
	if err := server.Serve(); err != nil {
		return nil, err
	}
	inline := server.NewClient(nil, "local", "a person", true)
	inline.Properties.ProtocolVersion = 5
	return &mqttBroker{server, inline}, nil
}

// brokerHook lets everybody in and looks at what is published.
type brokerHook struct {
	mqtt.HookBase
	sys     *System
	now     func() time.Time
	changed func()
}

// ID implements mqtt.Hook.
func (h *brokerHook) ID() string { return "stand-in" }

// Provides implements mqtt.Hook.
func (h *brokerHook) Provides(b byte) bool {
	return bytes.Contains([]byte{mqtt.OnConnect, mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPublish}, []byte{b})
}

// OnConnect implements mqtt.Hook. The broker's library counts what it sends behind a
// client's own limit twice, and then sends no more; so there is none, and a client that
// is busy reads later.
func (h *brokerHook) OnConnect(cl *mqtt.Client, _ packets.Packet) error {
	cl.State.Inflight.ResetSendQuota(math.MaxUint16)
	return nil
}

// OnConnectAuthenticate implements mqtt.Hook.
func (h *brokerHook) OnConnectAuthenticate(*mqtt.Client, packets.Packet) bool { return true }

// OnACLCheck implements mqtt.Hook.
func (h *brokerHook) OnACLCheck(*mqtt.Client, string, bool) bool { return true }

// OnPublish implements mqtt.Hook: it notes what came and says what the stand-in says.
func (h *brokerHook) OnPublish(cl *mqtt.Client, p packets.Packet) (packets.Packet, error) {
	if cl.Net.Inline {
		return p, nil // a person has published it from here
	}
	status, _, _, delay := h.sys.decide(h.now(), "PUBLISH", p.TopicName)
	call := Call{At: h.now(), Method: "PUBLISH", Path: p.TopicName, Status: max(status, 0),
		Body: strings.ToValidUTF8(string(p.Payload), "\uFFFD"), Headers: map[string]string{
			"QoS": fmt.Sprint(p.FixedHeader.Qos),
		}}
	if p.FixedHeader.Retain {
		call.Headers["Retain"] = "true"
	}
	if p.Properties.ContentType != "" {
		call.Headers["Content-Type"] = p.Properties.ContentType
	}
	for _, u := range p.Properties.User {
		if call.Headers[u.Key] = u.Val; strings.EqualFold(u.Key, "Idempotency-Key") {
			call.Key = u.Val
		}
	}
	h.sys.note(call)
	h.changed()
	if delay > 0 {
		time.Sleep(delay) // it acknowledges late
	}
	if status == never {
		return p, packets.ErrRejectPacket // and says nothing
	}
	if status == 0 {
		cl.Stop(io.ErrUnexpectedEOF)
		return p, packets.ErrRejectPacket
	}
	if reason, refused := reasonOf(status); refused {
		return p, reason
	}
	return p, nil
}

// reasonOf gives the reason code (MQTT 5.0, 2.4) that means what a status over HTTP does.
func reasonOf(status int) (packets.Code, bool) {
	switch {
	case status < 300:
		return packets.CodeSuccess, false
	case status == 401, status == 403:
		return packets.ErrNotAuthorized, true
	case status == 413:
		return packets.ErrPacketTooLarge, true
	case status < 500:
		return packets.ErrImplementationSpecificError, true
	}
	return packets.ErrQuotaExceeded, true
}

// serve implements speaker.
func (b *mqttBroker) serve(conn net.Conn) { _ = b.server.EstablishConnection("stand-in", conn) }

// close implements speaker.
func (b *mqttBroker) close() error { return b.server.Close() }

// send implements speaker.
func (b *mqttBroker) send(m Message) error {
	switch {
	case m.Topic == "" || strings.ContainsAny(m.Topic, "+#\x00"):
		return fmt.Errorf("%q is no topic: it has at least one character, and neither + nor #", m.Topic)
	case m.QoS > 2:
		return fmt.Errorf("qos must be 0, 1 or 2, not %d", m.QoS)
	}
	p := packets.Packet{
		FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: m.QoS, Retain: m.Retain}, TopicName: m.Topic,
		Payload: []byte(m.Body), PacketID: uint16(m.QoS), ProtocolVersion: 5,
	}
	for k, v := range m.Headers {
		if strings.EqualFold(k, "Content-Type") {
			p.Properties.ContentType = v
		} else {
			p.Properties.User = append(p.Properties.User, packets.UserProperty{Key: k, Val: v})
		}
	}
	return b.server.InjectPacket(b.inline, p)
}
