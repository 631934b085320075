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
    every = "1s"
    timeout = "2500ms" # want: longer than the 1s between | probed every 3s instead of every 1s
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
