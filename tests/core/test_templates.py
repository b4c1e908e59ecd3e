"""Templates of dialects: what they may, what they are held to, and how a fault is told."""

import time

import pytest

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.posting.writing.dialect import Dialect, dialect, load_dialect
from fenrik.core.posting.writing.templates import MAX_CHARACTERS, TemplateFault, compiled, rendered


def text(source, **values):
    return rendered(compiled(source), values)


def test_what_a_dialect_needs_works():
    source = "{% for t in tools %}{{ t ~ '/' ~ loop.index }}{{ ' ' if not loop.last }}{% endfor %}"
    assert text(source, tools=[3, 4]) == "3/1 4/2"
    assert (
        text("{{ (x / 25.4) | round(3) }} {{ name | upper | replace(' ', '_') }}", x=10, name="a b")
        == "0.394 A_B"
    )


@pytest.mark.parametrize(
    "source",
    [
        "{% for a in range(9000) %}{% for b in range(9000) %}{% endfor %}{% endfor %}",
        "{% macro again() %}{{ again() }}{{ again() }}{% endmacro %}{{ again() }}",
        "{% for a in range(999999999) %}x{% endfor %}",
        "{% for a in text %}{% for b in text %}{% for c in text %}{% endfor %}{% endfor %}{% endfor %}",
        "{{ 'x' * 999999999 }}",
        "{{ '%999999999d' % 1 }}",
        "{{ 9 ** 9 ** 9 ** 9 }}",
        "{{ 9 ** 16 ** 9 }}",
        "{{ text.center(999999999) }}",
        "{{ text.ljust(999999999) }}",
        "{{ '{:999999999}'.format(1) }}",
        "{{ 1.5 | round(999999999) }}",
        "{% set x = text %}" + "{% set x = x ~ x %}" * 40 + "{{ x }}",
        "{% set x = text %}" + "{% set x = x + x %}" * 40 + "{{ x }}",
        "{% set x = text %}" + "{% set x = x | replace('x', x) %}" * 9 + "{{ x }}",
        "{% set x = [text, text] %}" + "{% set x = [x | join, x | join] %}" * 40 + "{{ x }}",
        "{{ " + "(" * 3000 + "1" + ")" * 3000 + " }}",
        "{{ " + "-" * 9000 + "1 }}",
        "{% include 'x' %}",
        "{{ ''.__class__.__mro__ }}",
        "{{ text | attr('__class__') }}",
        "{{ cycler.__init__ }}",
    ],
)
def test_nothing_runs_away_or_reaches_out(source):
    started = time.process_time()
    with pytest.raises(TemplateFault):
        assert len(text(source, text="x" * 1000)) <= MAX_CHARACTERS
    assert time.process_time() - started < 5


@pytest.mark.parametrize(
    "fault", ["{{ 1 / 0 }}", "{{ 1 % 0 }}", "{{ 'a' + 1 }}", "{{ unknown }}", "{{ 1 | wish }}"]
)
def test_a_fault_is_one_of_the_dialect_with_its_template_and_line(fault):
    shipped = dialect("plain_iso")
    start = f"\n%\nG90\n{fault}"
    line = 4
    broken = Dialect(
        **shipped.model_dump(exclude={"templates"}),
        templates={**shipped.templates.model_dump(), "start": start},
    )
    with pytest.raises(PostError, match=f"'plain_iso' fails in line {line} of its template 'start'"):
        broken.render(start)


def test_a_dialect_that_is_something_else_is_told_without_showing_it(tmp_path):
    secret = tmp_path / "secret.toml"
    secret.write_text("password = 'correct horse battery staple'\n")
    with pytest.raises(DocumentError) as caught:
        dialect("secret.toml", lambda name, where: tmp_path / name)
    assert "horse" not in caught.value.message and "'name'" in caught.value.message
    with pytest.raises(DocumentError, match=r"at most 100000"):
        load_dialect("#" * 200_000, "long.toml")
    secret.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(DocumentError, match="not UTF-8"):
        dialect("secret.toml", lambda name, where: tmp_path / name)
