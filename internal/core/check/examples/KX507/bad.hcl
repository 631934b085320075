frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "192.0.2.11:8080", max_in_flight = 200 }
    gannet = { address = "192.0.2.12:8080", max_in_flight = 200 }
    petrel = { address = "192.0.2.13:8080", max_in_flight = 200 }
  }
  probe "http" {
    path = "/ready"
  }
  queue { # want: wait up to 1m in the queue | if clients leave after 10 s, up to 100 places are occupied by requests of clients that have left
    timeout = "1m"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
