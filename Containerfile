# The demo on port 8000: podman build -t steady-needle . && podman run -p 8000:8000 steady-needle
FROM docker.io/library/python:3.13-slim-bookworm
WORKDIR /app
COPY requirements requirements
RUN pip install --no-cache-dir --require-hashes -r requirements/runtime.txt
COPY pyproject.toml README.md ./
COPY needle needle
COPY web web
RUN pip install --no-cache-dir --no-deps . && useradd --create-home needle
USER needle
ENV STEADY_DEMO=true STEADY_HOST=0.0.0.0 STEADY_NAMES=127.0.0.1,localhost STEADY_DATA=/home/needle/data
VOLUME /home/needle/data
EXPOSE 8000
CMD ["steady-needle"]
