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
    timeout = "2500ms" # want: the probe's timeout 2.5 s is longer than its interval 1 s | probed every 3 s instead of every 1 s
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
