frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  probe "http" {
    path = "/ready"
  }
  suspend {
    rest = "10s"
    longest = "5s" # want: shorter than the first | every suspension of "app" lasts 5 s
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
