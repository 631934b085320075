frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "least-connections" # want: the answer timeout of "app" is 300 ms | each backend gets at least 333
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
    petrel = "192.0.2.13:8080"
  }
  probe "http" {
    path = "/ready"
  }
  timeouts {
    answer = "300ms"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
