# The demo on port 8000: podman build --target one -t steady-needle . &&
#   podman run -p 8000:8000 steady-needle
# Several machines: compose.yaml, which builds the target "several".
FROM docker.io/library/python:3.13-slim-bookworm AS base
WORKDIR /app
COPY requirements requirements
RUN pip install --no-cache-dir --require-hashes -r requirements/runtime.txt
COPY pyproject.toml README.md manage.py ./
COPY needle needle
COPY web web
RUN pip install --no-cache-dir --no-deps . && useradd --create-home needle \
    && install -d -o needle -m 700 /home/needle/data
ENV STEADY_HOST=0.0.0.0 STEADY_NAMES=127.0.0.1,localhost STEADY_DATA=/home/needle/data
EXPOSE 8000

FROM base AS several
RUN pip install --no-cache-dir --require-hashes -r requirements/scale.txt
USER needle
CMD ["gunicorn", "web.wsgi:application", "--bind", "0.0.0.0:8000", "--workers", "4", \
     "--threads", "4", "--timeout", "120", "--keep-alive", "75"]

FROM base AS one
USER needle
ENV STEADY_DEMO=true
VOLUME /home/needle/data
CMD ["steady-needle"]
