# Fares and sailings by gRPC: HTTP/2 from the client to the backend, with the
# backends' certificates checked against the company's own authority.
frontend "calls" {
  listen = "0.0.0.0:8443"

  tls {
    certificate        = "calls.pem"
    key                = "calls.key"
    min_version        = "1.3"
    alpn               = ["h2"]
    client_ca          = "partners.pem"
    client_certificate = "require"
  }

  limits {
    stalled_streams = 50
    body_size       = "4MiB"
  }

  route "fares" {
    when {
      path   = "/tern.fares.Fares/*"
      method = "POST"
    }
    rewrite {
      host = "fares.inside.example"
    }
    send_to = upstream.fares
  }

  route "sailings" {
    when {
      path   = "/tern.sailings.Sailings/*"
      method = "POST"
    }
    rewrite {
      host = "sailings.inside.example"
    }
    send_to = upstream.sailings
  }

  route "rest" {
    reply {
      status = 404
      body   = "there is no such service\n"
    }
  }
}

upstream "fares" {
  algorithm    = "least-latency"
  http_version = "2"

  backends = {
    auk    = { address = "192.0.2.71:9443", max_in_flight = 200 }
    gannet = { address = "192.0.2.72:9443", max_in_flight = 200 }
    petrel = { address = "192.0.2.73:9443", max_in_flight = 200 }
  }

  tls {
    name        = "fares.inside.example"
    ca          = "inside.pem"
    min_version = "1.3"
  }

  probe "grpc" {
    service    = "tern.fares.Fares"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect", "reset"]
    budget   = "10%"
  }

  queue {
    limit   = 100
    timeout = "1s"
  }

  timeouts {
    connect = "500ms"
    answer  = "3s"
  }
}

upstream "sailings" {
  algorithm    = "two-choices"
  http_version = "2"

  backends = {
    skua = "192.0.2.81:9443"
    shag = "192.0.2.82:9443"
  }

  tls {
    name        = "sailings.inside.example"
    ca          = "inside.pem"
    min_version = "1.3"
  }

  probe "grpc" {
    service    = "tern.sailings.Sailings"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "500ms"
    answer  = "3s"
  }
}
