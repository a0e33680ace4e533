"""Encoders of others: their settings are read, and their tokens pooled as these say."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
import pytest
from onnx import TensorProto, helper

from fontanel.core.embedding.directory import directory_facts
from fontanel.core.embedding.encoder import EmbedderMissing, OnnxEmbedder
from tests.core.encoders import make_encoder

CLOSED = ["closed harbour crane", "crane harbour closed"]


def test_settings_are_found_in_whatever_files_there_are(tmp_path: Path) -> None:
    directory = make_encoder(
        tmp_path / "encoder",
        config={"max_position_embeddings": 514, "model_type": "some"},
        tokenizer_config={"model_max_length": 1e30},
        more={"max_seq_length": 128, "prompts": {"query": "query: ", "passage": "text: "}},
    )
    (directory / "pooling").mkdir()
    (directory / "pooling" / "config.json").write_text('{"pooling_mode_cls_token": true}')
    (directory / "broken.json").write_text("{")
    facts = directory_facts(directory)
    assert (facts.name, facts.max_tokens, facts.pooling) == ("encoder", 128, "first")
    assert (facts.question_prefix, facts.passage_prefix) == ("query: ", "text: ")
    plain = directory_facts(make_encoder(tmp_path / "plain"))
    assert (plain.max_tokens, plain.pooling, plain.question_prefix) == (256, "mean", "")


@pytest.mark.parametrize(
    ("setting", "same"),
    [
        ("pooling_mode_mean_tokens", True),
        ("pooling_mode_cls_token", False),
        ("pooling_mode_lasttoken", False),
    ],
)
def test_tokens_are_pooled_as_the_settings_say(tmp_path: Path, setting: str, same: bool) -> None:
    words = "harbour closed crane"
    plain = OnnxEmbedder(make_encoder(tmp_path / "words", words, pooling={setting: True}))
    vectors = plain.embed(CLOSED)
    assert np.linalg.norm(vectors, axis=1) == pytest.approx(1.0, abs=1e-5)
    # Only the mean does not depend on the order of words.
    assert (float(vectors[0] @ vectors[1]) > 0.999) is same
    first, last = plain.embed(["closed"]), plain.embed(["crane"])
    if setting == "pooling_mode_cls_token":
        assert vectors[0] == pytest.approx(first[0], abs=1e-5)
    if setting == "pooling_mode_lasttoken":
        assert vectors[0] == pytest.approx(last[0], abs=1e-5)


def test_padding_does_not_change_a_vector(tmp_path: Path) -> None:
    encoder = OnnxEmbedder(
        make_encoder(tmp_path / "words", "harbour closed crane", ("token_type_ids",))
    )
    together = encoder.embed(["closed", "crane harbour closed today because of the wind"])
    alone = encoder.embed(["closed"])
    assert together[0] == pytest.approx(alone[0], abs=1e-5)


def test_texts_are_cut_at_the_limit_of_the_settings(tmp_path: Path) -> None:
    short = OnnxEmbedder(make_encoder(tmp_path / "a", "crane", config={"max_seq_length": 2}))
    assert short.embed(["crane crane"])[0] == pytest.approx(short.embed(["crane " * 9])[0])


def test_a_model_that_is_no_encoder_is_refused(tmp_path: Path) -> None:
    directory = make_encoder(tmp_path / "words", inputs=("pixel_values",))
    with pytest.raises(EmbedderMissing, match="pixel_values"):
        OnnxEmbedder(directory)
    value = helper.make_tensor_value_info
    graph = helper.make_graph(
        [helper.make_node("Identity", ["input_ids"], ["out"])],
        "other",
        [value(name, TensorProto.INT64, ["n"]) for name in ("input_ids", "attention_mask")],
        [value("out", TensorProto.INT64, ["n"])],
    )
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=9)
    onnx.save(model, str(directory / "model.onnx"))
    with pytest.raises(EmbedderMissing, match="gives no vectors"):
        OnnxEmbedder(directory)
