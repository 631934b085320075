frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "127.0.0.1:9001", weight = 500 }
    gannet = { address = "127.0.0.1:9002", weight = 1 } # want: less than one request in 200 | 2.00 of 1,000
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
