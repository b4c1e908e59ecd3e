import { Button, FileButton, Group, TextInput, Title } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { request, send, type JobAnswer } from "../../api/client";
import { editorName, setEditorName } from "../../api/editor";
import { tell } from "../../api/hooks";
import { JobRow, type Listed } from "./JobRow";

interface Usage {
  results: number;
  limit: number;
}

const gigabytes = (bytes: number) =>
  `${(bytes / 1e9).toLocaleString(undefined, { maximumFractionDigits: 1 })} GB`;

/** Whether all words of a search stand in a job's name. */
const found = (job: Listed, search: string) =>
  search
    .toLowerCase()
    .split(/\s+/)
    .every((word) => job.name.toLowerCase().includes(word));

/** All jobs with their pictures and what they are waiting for, and the ways to begin one. */
export function JobList() {
  const [name, setName] = useState("");
  const [search, setSearch] = useState("");
  const go = useNavigate();
  const client = useQueryClient();
  const jobs = useQuery({
    queryKey: ["jobs"],
    queryFn: () => request<Listed[]>("/jobs"),
    refetchInterval: 5_000,
  });
  const usage = useQuery({ queryKey: ["usage"], queryFn: () => request<Usage>("/usage") });
  const create = async () => {
    try {
      const job = await send<JobAnswer>("POST", "/jobs", { name: name.trim() || "New job" });
      go(`/jobs/${job.id}/part`);
    } catch (error) {
      tell(error);
    }
  };
  const bring = async (files: File[]) => {
    if (files.length === 0) return;
    const body = new FormData();
    for (const file of files) body.append("files", file);
    try {
      const job = await send<JobAnswer>("POST", "/jobs/import", body);
      go(`/jobs/${job.id}/plan`);
    } catch (error) {
      tell(error);
    }
  };
  const remove = async (job: Listed) => {
    if (!window.confirm(`Delete the job '${job.name}'? This cannot be undone.`)) return;
    try {
      await send("DELETE", `/jobs/${job.id}`);
      client.invalidateQueries({ queryKey: ["jobs"] });
    } catch (error) {
      tell(error);
    }
  };
  const shown = jobs.data?.filter((job) => found(job, search));
  return (
    <main className="joblist">
      <Group gap={10} mb={22}>
        <img src="/mark.svg" width={30} height={30} alt="" />
        <Title order={1} fz={22}>
          Fenrik
        </Title>
        <TextInput
          label="Your name"
          placeholder="Shown beside your changes"
          size="sm"
          w={200}
          ml="auto"
          defaultValue={editorName()}
          onChange={(e) => setEditorName(e.currentTarget.value)}
        />
      </Group>
      <Group align="end" mb={22} gap={10}>
        <TextInput
          label="New job"
          placeholder="Name of the part"
          size="sm"
          w={240}
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          onKeyDown={(e) => e.key === "Enter" && create()}
        />
        <Button size="sm" onClick={create}>
          Begin
        </Button>
        <FileButton multiple onChange={bring}>
          {(props) => (
            <Button size="sm" variant="default" {...props}>
              Import a job document
            </Button>
          )}
        </FileButton>
        {!!jobs.data?.length && (
          <TextInput
            label="Search"
            placeholder="Name of a job"
            size="sm"
            w={180}
            ml="auto"
            value={search}
            onChange={(e) => setSearch(e.currentTarget.value)}
          />
        )}
      </Group>
      {!!shown?.length && (
        <ul className="shelf" aria-label="Jobs">
          {shown.map((job) => (
            <JobRow key={job.id} job={job} remove={() => remove(job)} />
          ))}
        </ul>
      )}
      {jobs.data?.length === 0 && (
        <p className="small">No job yet: name one above and begin, then drop in its solid model.</p>
      )}
      {!!jobs.data?.length && shown?.length === 0 && <p className="small">No job is called that.</p>}
      {usage.data && (
        <p className="small" style={{ marginTop: 26 }}>
          Results of computations take {gigabytes(usage.data.results)} of at most{" "}
          {gigabytes(usage.data.limit)}; beyond that the ones not used for longest are removed and computed
          again when they are asked for.
        </p>
      )}
      {jobs.isError && <p className="problem wrong">{jobs.error.message}</p>}
    </main>
  );
}
