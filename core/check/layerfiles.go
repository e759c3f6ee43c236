package check

import (
	"path"
	"slices"
	"strings"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/rule"
)

// orderFile is the name of the file that says in which order the layers of a folder stand.
const orderFile = "order"

func inLayers(p string) bool {
	return (strings.HasSuffix(p, ".yaml") || strings.HasSuffix(p, ".yml")) && path.Base(path.Dir(p)) == "layers" && !IsModel(p) && !IsExamples(p)
}

// IsLayer reports whether a path is that of a layer.
func IsLayer(p string) bool { return inLayers(p) && !IsLayerOrder(p) }

// IsLayerOrder reports whether a path is that of the order of the layers.
func IsLayerOrder(p string) bool {
	return inLayers(p) && strings.TrimSuffix(path.Base(p), path.Ext(p)) == orderFile
}

type layerFile struct {
	file  File
	doc   document
	layer *layering.Layer
}

func (c *folder) layer(f File) {
	c.report.Layers++
	doc := parseYAML(f.Data)
	l, err := layering.ParseLayer(f.Data)
	if err != nil {
		sentence, at := takePlace(err.Error(), place{1, 1})
		if strings.HasPrefix(sentence, "target of ") {
			at = doc.place("/target")
		}
		c.add(f.Path, at, "error", "layer", "", "%s", sentence)
		return
	}
	for _, x := range c.layers {
		if x.layer.Name == l.Name {
			c.add(f.Path, doc.place("/layer"), "error", "reference", "", "%s is described in %s already; one file a layer", l.Name, x.file.Path)
			return
		}
	}
	c.layers = append(c.layers, layerFile{f, doc, l})
}

func (c *folder) layerOrder(f File) {
	o, err := layering.ParseOrder(f.Data)
	if err != nil {
		sentence, at := takePlace(err.Error(), place{1, 1})
		c.add(f.Path, at, "error", "layer", "", "%s", sentence)
		return
	}
	doc := parseYAML(f.Data)
	for _, name := range o.Order {
		if !slices.ContainsFunc(c.layers, func(x layerFile) bool { return x.layer.Name == name }) {
			c.add(f.Path, doc.place("/order"), "error", "reference", "", "there is no layer %s in this folder", name)
		}
	}
	for _, x := range c.layers {
		if !slices.Contains(o.Order, x.layer.Name) && !strings.HasPrefix(x.file.Path, "service/") {
			c.add(f.Path, doc.place("/order"), "warning", "reference", "", "the order does not name %s, so that it stands on top", x.layer.Name)
		}
	}
}

// layersAgainst checks the layers against the models and rules.
func (c *folder) layersAgainst(models []*model.Model, rules []*rule.Rule, names []string) {
	if len(models) == 0 || len(c.broken) > 0 {
		return
	}
	var asked []Layer
	for _, x := range c.layers {
		asked = append(asked, LayerOf(x.layer))
		fit, wrong := FitLayer(x.layer, models, nil, rules, Around{Rules: names, Labels: c.labels()})
		for _, w := range wrong {
			c.add(x.file.Path, x.doc.place(w.Pointer), "error", "layer", "", "%s", w.Sentence)
		}
		for _, w := range fit.Warnings {
			at := x.doc.place("/target")
			c.add(x.file.Path, at, "warning", "expression", w.Suggest, "target: %s", w.Sentence)
		}
	}
	if len(asked) == 0 {
		return
	}
	if loop := Loop(rules, asked, models); loop != "" {
		for _, x := range c.layers {
			if strings.Contains(loop, "brings the layer "+x.layer.Name+",") {
				c.add(x.file.Path, x.doc.place("/target"), "error", "reference", "", "%s would come and go by what it gives itself: %s", x.layer.Name, loop)
			}
		}
	}
}
