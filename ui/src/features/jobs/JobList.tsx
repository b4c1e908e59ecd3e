import { Button, FileButton, Group, TextInput, Title } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { request, send, type JobAnswer } from "../../api/client";
import { editorName, setEditorName } from "../../api/editor";
import { tell } from "../../api/hooks";

interface Listed {
  id: number;
  name: string;
  updated: string;
  problem: string;
}

interface Usage {
  results: number;
  limit: number;
}

const gigabytes = (bytes: number) =>
  `${(bytes / 1e9).toLocaleString(undefined, { maximumFractionDigits: 1 })} GB`;

/** All jobs, and the ways to begin one. */
export function JobList() {
  const [name, setName] = useState("");
  const go = useNavigate();
  const client = useQueryClient();
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: () => request<Listed[]>("/jobs") });
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
  return (
    <main className="joblist">
      <Group gap={10} mb={26}>
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
      <Group align="end" mb={28}>
        <TextInput
          label="New job"
          placeholder="Name of the part"
          size="sm"
          w={300}
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
              Bring in a job document
            </Button>
          )}
        </FileButton>
      </Group>
      <table className="plan" aria-label="Jobs">
        <thead>
          <tr>
            <th>Job</th>
            <th>Last change</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {jobs.data?.map((job) => (
            <tr key={job.id} onClick={() => !job.problem && go(`/jobs/${job.id}/plan`)}>
              <td>
                {job.problem ? <Unopened job={job} /> : <Link to={`/jobs/${job.id}/plan`}>{job.name}</Link>}
              </td>
              <td style={{ whiteSpace: "nowrap" }}>{new Date(job.updated).toLocaleString()}</td>
              <td className="num">
                <Button
                  variant="subtle"
                  size="compact-xs"
                  color="gray"
                  onClick={(e) => {
                    e.stopPropagation();
                    remove(job);
                  }}
                >
                  Delete
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {jobs.data?.length === 0 && (
        <p className="small">No job yet: name one above and begin, then drop in its solid model.</p>
      )}
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

/** A job that this Fenrik cannot open: why, and its document to take away. */
function Unopened({ job }: { job: Listed }) {
  return (
    <div>
      {job.name}
      <div className="problem wrong">Cannot be opened: {job.problem}</div>
      <a href={`/api/jobs/${job.id}/document.json`} download>
        Download its document
      </a>
    </div>
  );
}
