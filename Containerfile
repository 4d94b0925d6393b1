# Echo Tally in a container, built without network from a folder of wheels:
#   python -m pip wheel --wheel-dir wheels '.[all]'
#   docker build -f Containerfile -t echotally .
#   docker run --rm -v "$PWD:/work" echotally project model.toml
# scripts/package runs the step below without network, on every Python it finds.
FROM python:3.11-slim
COPY wheels /wheels
RUN python -m pip install --no-index --find-links /wheels 'echotally[all]'
ENV ECHOTALLY_CACHE=/var/cache/echotally
WORKDIR /work
ENTRYPOINT ["echotally"]
