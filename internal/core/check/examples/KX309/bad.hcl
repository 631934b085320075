frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
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
  queue { # want: the queue of "app" is never used | of 1,000 requests at once 1000 are forwarded, and none waits
    timeout = "2s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
