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
    down_after = 0 # want: outside its limits
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
