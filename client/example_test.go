package client_test

import (
	"context"
	"errors"
	"fmt"
	"log"
	"net/http"

	"ullage/client"
)

// A program signs in, onboards a device, and asks who is near a limit.
func Example() {
	ctx := context.Background()
	c := client.New("http://127.0.0.1:8460", "")
	if _, err := c.SignIn(ctx, "engineer", "the password"); err != nil {
		log.Fatal(err)
	}
	o, err := c.CreateDevice(ctx, client.NewDevice{ID: "tank-fennimore-09", Name: "Tank 9", Model: "tank-probe",
		Labels: map[string]string{"site": "Fennimore"}})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("flash", o.ID, "with its token")
	near, err := c.DevicesWhere(ctx, "must_temp > set.max_temp - 3")
	if err != nil {
		log.Fatal(err)
	}
	for _, d := range near {
		fmt.Println(d.ID, d.Health, d.Reasons)
	}
}

// A site is changed only if nobody else has changed it meanwhile.
func ExampleThings_Put() {
	ctx := context.Background()
	c := client.New("http://127.0.0.1:8460", "token")
	site, tag, err := c.Sites().Get(ctx, "High Orchard")
	if err != nil {
		log.Fatal(err)
	}
	site.Note = "Ring twice."
	_, err = c.Sites().Put(ctx, site, tag)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == http.StatusPreconditionFailed {
		fmt.Println("somebody else was quicker; read it again")
	}
}
