zone = "north-quay"
frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = { # want: "app" lacks capacity without zone "north-quay" | of 240 requests
    auk    = { address = "192.0.2.11:8080", max_in_flight = 100, zone = "north-quay" }
    gannet = { address = "192.0.2.12:8080", max_in_flight = 100, zone = "north-quay" }
    petrel = { address = "192.0.2.13:8080", max_in_flight = 100, zone = "south-quay" }
    skua   = { address = "192.0.2.14:8080", max_in_flight = 100, zone = "south-quay" }
  }
  probe "http" {
    path = "/ready"
  }
  failover {
    prefer = "zone"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
