frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = { address = "192.0.2.12:8080", tier = 2 }
  }
  probe "http" {
    path = "/ready"
  }
  failover {
  }
  sticky { # want: the failover of "app" excludes clients with a seat | 100 of 100 clients are refused
    by     = "cookie"
    secret = "a line that only the proxies know"
    on_loss = "refuse"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
