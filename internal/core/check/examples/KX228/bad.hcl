zone = "north-quay"
frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "192.0.2.11:8080", zone = "north-quay", max_in_flight = 2 } # want: "auk" spills with 2 in flight | 80% of max_in_flight = 2 is 1.6
    gannet = { address = "192.0.2.12:8080", zone = "east-quay", max_in_flight = 2 }
    petrel = { address = "192.0.2.13:8080", zone = "south-quay", max_in_flight = 2 }
    skua   = { address = "192.0.2.14:8080", zone = "west-quay", max_in_flight = 2 }
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
  queue {
    limit = 50
  }
  suspend {
    rest = "10s"
  }
  failover {
    prefer   = "zone"
    spill_at = "80%"
  }
}
