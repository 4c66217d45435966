import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answered } from "../api/client";
import { counted } from "../lib/format";
import { useSeat } from "./seatContext";
import { Button } from "./ui";

/** What an invitation leads to, and the button that joins it. */
export function InvitedPage() {
  const { token = "" } = useParams();
  const { seat } = useSeat();
  const navigate = useNavigate();
  const [problem, setProblem] = useState("");
  const params = { path: { token } };
  const found = useQuery({
    queryKey: ["invited", token, seat.userId],
    queryFn: () => answered(seat.api.GET("/v1/invitations/{token}", { params })),
    retry: false,
  });
  const join = async () => {
    try {
      const joined = await answered(seat.api.POST("/v1/invitations/{token}/accept", { params }));
      await seat.list.refresh(joined.id);
      navigate(`/c/${joined.id}`, { replace: true });
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
  };
  const why = problem || found.error?.message;
  return (
    <main className="grid h-full place-items-center p-6">
      <div className="w-full max-w-md border border-line p-4">
        <h2 className="font-semibold">
          {found.data ? found.data.title || found.data.name || "A conversation" : "An invitation"}
        </h2>
        {found.data && (
          <p className="mt-1 text-faint">
            {found.data.kind}, {counted(found.data.members, "member")}; you will be a {found.data.role}.
          </p>
        )}
        {why && (
          <p role="alert" className="mt-2 text-buoy">
            {why}
          </p>
        )}
        <p className="mt-4 flex gap-2">
          {found.data && (
            <Button strong onClick={() => void join()}>
              Join
            </Button>
          )}
          <Link to="/" className="self-center underline">
            To the conversations
          </Link>
        </p>
      </div>
    </main>
  );
}
