frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = { # want: "app" lacks capacity without tier 1 | of 120 requests in flight, six tenths of what tier 1 may have, 70 exceed the capacity without it
    auk    = { address = "192.0.2.11:8080", tier = 1, max_in_flight = 100 }
    gannet = { address = "192.0.2.12:8080", tier = 1, max_in_flight = 100 }
    petrel = { address = "192.0.2.13:8080", tier = 2, max_in_flight = 50 }
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
  failover {
    spill_below = "80%"
  }
}
