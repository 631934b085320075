frontend "web" {
  listen = "127.0.0.1:8080"
  route "a" {
    when {
      path = "/a/**"
    }
    send_to = upstream.a
  }
  route "b" {
    send_to = upstream.b
  }
}
upstream "a" {
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
upstream "b" {
  backends = {
    auk    = "127.0.0.1:9001" # want: is probed differently by "a" and by "b" | noticed by the probes of "a" within 10 s
    petrel = "127.0.0.1:9003"
  }
  probe "http" {
    path  = "/ready"
    every = "9s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
