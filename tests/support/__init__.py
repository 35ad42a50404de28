"""What several tests need."""

# Seconds that real work may take. It only guards against waiting for ever: what a test holds does not depend
# on it, and a busy machine can be a hundred times slower than an idle one.
PATIENCE = 900
