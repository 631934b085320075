frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "127.0.0.1:9001", weight = 0 } # want: every backend of "app" has weight 0
    gannet = { address = "127.0.0.1:9002", weight = 0 }
  }
  probe "http" {
    path = "/ready"
  }
}
