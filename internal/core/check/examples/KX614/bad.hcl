frontend "web" {
  listen = "0.0.0.0:8080"
  limits { # want: the rate of "web" is 5 req/s with a burst of 5 | 15 are answered with 429
    rate  = "5/s"
    burst = 5
  }
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
