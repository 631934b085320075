frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = { # want: "app" lacks capacity without "auk" | of 300 requests | "app" lacks capacity without "auk"
    auk    = { address = "192.0.2.11:8080", max_in_flight = 300 }
    gannet = { address = "192.0.2.12:8080", max_in_flight = 100 }
    petrel = { address = "192.0.2.13:8080", max_in_flight = 100 }
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
