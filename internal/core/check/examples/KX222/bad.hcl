zone = "north-quay"
frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = { # want: "north-quay" and "north_quay", zones of "app", seem to be the same | does not prefer "gannet"
    auk    = { address = "192.0.2.11:8080", zone = "north-quay" }
    gannet = { address = "192.0.2.12:8080", zone = "north_quay" }
    petrel = { address = "192.0.2.13:8080", zone = "south-quay" }
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
  failover {
    prefer = "zone"
  }
}
