frontend "web" {
  listen = "0.0.0.0:8080"
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
  sticky { # want: refuses clients whose backend is out | 50 of 100 clients get 503
    by      = "address"
    on_loss = "refuse"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
