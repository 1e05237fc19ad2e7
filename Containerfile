# The server alone, on a small base. Models, `server.toml`, certificate and tokens are mounted at /models.
FROM docker.io/library/rust:1-bookworm AS build
WORKDIR /src
COPY . .
RUN cargo build --release --locked -p cubrel-serve

FROM docker.io/library/debian:bookworm-slim
RUN useradd --uid 10001 --create-home cubrel
COPY --from=build /src/target/release/cubrel-serve /usr/local/bin/
USER cubrel
WORKDIR /models
EXPOSE 8080 8815
STOPSIGNAL SIGTERM
ENTRYPOINT ["cubrel-serve", "--config", "/models/server.toml", "--format", "json"]
