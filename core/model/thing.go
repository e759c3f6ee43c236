package model

import (
	"fmt"
	"strings"
)

// Instance is the device that a Thing Description is about, and the doors by
// which it is reached.
type Instance struct {
	ID    string
	Title string
	// Service is the base address of the operators' API, such as
	// http://127.0.0.1:8080; Link of the model that the device was given.
	Service, Link string
	// MQTT and HTTP are the base addresses of the devices' doors; empty for none.
	MQTT, HTTP string
	// Has tells whether the device has shown an optional property.
	Has func(property string) bool
	// Fill gives values for the placeholders that the model leaves open, by
	// their names in small letters.
	Fill map[string]string
}

// Describe writes the Thing Description (W3C WoT TD 1.1) of one device. Every
// form in it works as it is written: reading values and writing settings over
// the operators' API with a person's token, giving commands and hearing of
// events there too; sending readings and attributes, as the device, over MQTT
// and HTTP. It fails while a placeholder has no value.
func (m *Model) Describe(d Instance) ([]byte, error) {
	t := m.doc.clone()
	values := map[string]string{}
	for _, name := range m.Open {
		if v, ok := d.Fill[strings.ToLower(name)]; ok {
			values[name] = v
		}
	}
	t = fill(t, values)
	if left := open(t); len(left) > 0 {
		return nil, fmt.Errorf("the model leaves {{%s}} open, and %s has no label or attribute %s to fill it in",
			left[0], d.ID, strings.ToLower(left[0]))
	}
	name := t.str("title")
	if name == "" {
		name = m.Title
	}
	for _, k := range []string{"tm:optional", "links", "forms", "security", "securityDefinitions", "version", "base",
		"id", "title"} {
		t.remove(k)
	}
	types := []*node{textNode("Thing")}
	for _, x := range texts(t.get("@type")) {
		if x != "tm:ThingModel" {
			types = append(types, textNode(x))
		}
	}
	out := object()
	out.set("@context", contexts(t.get("@context"), prefixes()))
	out.set("@type", list(types...))
	out.set("id", textNode("urn:ullage:device:"+d.ID))
	title := name + " " + d.ID
	if d.Title != "" {
		title = d.Title
	}
	out.set("title", textNode(title))
	for i, k := range t.keys {
		if out.get(k) == nil {
			out.set(k, t.kids[i])
		}
	}
	version := object()
	version.set("instance", textNode(m.Version))
	version.set("model", textNode(m.Version))
	out.set("version", version)
	out.set("links", list(pairs("rel", "type", "href", d.Link, "type", "application/tm+json")))
	defs := object()
	defs.set("person", pairs("scheme", "bearer", "in", "header", "format", "opaque"))
	defs.set("device_token", pairs("scheme", "bearer", "in", "header", "format", "opaque"))
	defs.set("device_login", pairs("scheme", "basic", "in", "auto", "description",
		"user name is the id of the device, password its token"))
	out.set("securityDefinitions", defs)
	out.set("security", list(textNode("person")))
	m.propertyForms(out, d)
	at := d.Service + "/api/v1/devices/" + d.ID
	each := func(kind string, form func(name string) *node) {
		if of := out.get(kind); of != nil {
			for i, name := range of.keys {
				of.kids[i].set("forms", list(form(name)))
			}
		}
	}
	each("actions", func(name string) *node {
		return pairs("href", at+"/invoke/"+name, "contentType", "application/json", "htv:methodName", "POST", "op",
			"invokeaction")
	})
	each("events", func(name string) *node {
		return pairs("href", at+"/events/"+name, "contentType", "application/json", "subprotocol", "sse", "op",
			"subscribeevent")
	})
	out.set("forms", list(m.doors(d)...))
	return out.json(true), nil
}

// prefixes binds what forms use: the terms of the HTTP and MQTT bindings.
func prefixes() *node {
	return pairs("htv", "http://www.w3.org/2011/http#", "mqv", "https://www.w3.org/2019/wot/mqtt#")
}

func pairs(words ...string) *node {
	o := object()
	for i := 0; i+1 < len(words); i += 2 {
		o.set(words[i], textNode(words[i+1]))
	}
	return o
}

// propertyForms gives every property the forms by which people's programs read
// and write it.
func (m *Model) propertyForms(t *node, d Instance) {
	props := t.get("properties")
	if props == nil {
		return
	}
	kept := object()
	for i, name := range props.keys {
		p := props.kids[i]
		var leaves []*Property
		for k := range m.Properties {
			if m.Properties[k].Path[0] == name {
				leaves = append(leaves, &m.Properties[k])
			}
		}
		if len(leaves) != 1 || !leaves[0].Stored() || leaves[0].Name != name {
			continue // only single values have a place of their own
		}
		if leaves[0].Optional && d.Has != nil && !d.Has(name) {
			continue
		}
		at := d.Service + "/api/v1/devices/" + d.ID + "/values/" + name
		form := pairs("href", at, "contentType", "application/json", "htv:methodName", "GET")
		form.set("op", list(textNode("readproperty")))
		forms := []*node{form}
		if leaves[0].Role == Setting {
			write := pairs("href", at, "contentType", "application/json", "htv:methodName", "PUT")
			write.set("op", list(textNode("writeproperty")))
			forms = append(forms, write)
		}
		p.remove("forms")
		p.set("readOnly", &node{kind: 't', yes: leaves[0].Role != Setting})
		p.set("forms", list(forms...))
		kept.set(name, p)
	}
	t.set("properties", kept)
}

// doors are the forms of the device itself: an object of values by name goes up.
func (m *Model) doors(d Instance) []*node {
	all := pairs("href", d.Service+"/api/v1/devices/"+d.ID+"/values", "contentType", "application/json",
		"htv:methodName", "GET")
	all.set("op", list(textNode("readallproperties")))
	out := []*node{all}
	door := func(name, says string, telemetry bool) {
		if !telemetry && len(m.With(Attribute)) == 0 {
			return
		}
		op := list(textNode("writemultipleproperties"))
		if d.MQTT != "" {
			f := pairs("href", d.MQTT, "mqv:controlPacket", "publish", "mqv:topic", "ullage/"+d.ID+"/"+name, "mqv:qos",
				"1", "contentType", "application/json", "description", says)
			f.set("op", op)
			f.set("security", list(textNode("device_login")))
			out = append(out, f)
		}
		if d.HTTP != "" {
			f := pairs("href", d.HTTP+"/device/v1/"+name, "htv:methodName", "POST", "contentType", "application/json",
				"description", says)
			f.set("op", op)
			f.set("security", list(textNode("device_token")))
			out = append(out, f)
		}
	}
	door("readings", "the device sends telemetry, an object of values by name", true)
	door("about", "the device reports its attributes, an object of values by name", false)
	return out
}
