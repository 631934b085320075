frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = { # want: "app" has no tier 2 | its tiers are 1, 3; without those before it, tier 3 serves
    auk    = { address = "192.0.2.11:8080", tier = 1 }
    gannet = { address = "192.0.2.12:8080", tier = 1 }
    petrel = { address = "192.0.2.13:8080", tier = 3 }
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
