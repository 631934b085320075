frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "192.0.2.11:8080", tier = 1, max_in_flight = 100 }
    gannet = { address = "192.0.2.12:8080", tier = 1, max_in_flight = 100 }
    petrel = { address = "192.0.2.13:8080", tier = 2, max_in_flight = 150 }
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
