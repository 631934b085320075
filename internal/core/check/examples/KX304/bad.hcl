frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "127.0.0.1:9001", weight = 500 }
    gannet = { address = "127.0.0.1:9002", weight = 1 } # want: has a weight of 1 in 501 | of 10,000 requests one after the other 20 go to it
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
